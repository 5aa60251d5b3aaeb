import type { CopyEvent, CopyProgress } from '@/core/copy/progress'
import type { CopyStep } from '@/core/copy/run'
import type { LegTiming } from '@/core/route/types'

/** How many speed samples a copy keeps; when full, every other one goes and the step doubles. */
const MAX_SAMPLES = 240
const MAX_EVENTS = 100

export interface MeterOptions {
  readonly totalBytes: number
  readonly titles: ReadonlyMap<number, string>
  readonly verify?: boolean
  /** What was seen of the copy before it was cut off. */
  readonly before?: CopyProgress | null
}

/** Counts a copy's bytes and modelled seconds and tells how far it is. */
export class CopyMeter {
  private readonly progress: { -readonly [K in keyof CopyProgress]: CopyProgress[K] }
  private sampleStep = 1
  private sampleBytes = 0
  private sampleFrom = 0
  private checkSeconds: number
  private readonly known: boolean

  constructor(
    private readonly timing: LegTiming,
    private readonly options: MeterOptions,
  ) {
    const { totalBytes, verify = true, before } = options
    this.known = Boolean(before)
    this.progress = {
      phase: 'erase',
      copiedBytes: 0,
      checkedBytes: 0,
      totalBytes,
      sourceOffset: 0,
      partition: '',
      seconds: before?.seconds ?? 0,
      copySeconds: before?.copySeconds ?? 0,
      bytesPerSecond: 0,
      meanBytesPerSecond: 0,
      secondsLeft: 0,
      samples: [...(before?.samples ?? [])],
      events: [...(before?.events ?? [])],
      verify,
      partSeconds: { ...before?.partSeconds },
    }
    this.checkSeconds = before ? checkSecondsOf(before) : 0
    this.sampleFrom = this.progress.seconds
  }

  /**
   * Seconds that the step took, as `took` tells them from those that it would take on the drives and links of the leg; 0
   * for what was done before a cut.
   */
  add({ phase, bytes, piece, before }: CopyStep, took: (modelled: number) => number = (modelled) => modelled): number {
    const { progress, timing } = this
    if (phase !== progress.phase) this.closeSample()
    progress.phase = phase
    if (piece) {
      progress.sourceOffset = piece.sourceOffset
      progress.partition = this.options.titles.get(piece.partition) ?? ''
    }
    const [rate, request] =
      phase === 'check'
        ? [timing.checkBytesPerSecond, timing.checkRequestSeconds ?? timing.requestSeconds]
        : [timing.copyBytesPerSecond, timing.requestSeconds]
    // What was seen before the cut has its seconds already.
    const modelled = bytes / rate + request
    const seconds = before ? (this.known ? 0 : modelled) : took(modelled)
    if (phase === 'copy' || phase === 'rescue') progress.copiedBytes += bytes
    if (phase === 'check') progress.checkedBytes += bytes
    this.pass(seconds, piece?.partition)
    if (before) return 0
    this.sampleBytes += bytes
    if (progress.seconds - this.sampleFrom >= this.sampleStep) this.closeSample()
    return seconds
  }

  /** Lets seconds pass in which nothing was copied: tries at what does not read, or rest. */
  wait(seconds: number, partition?: number): void {
    this.pass(seconds, partition)
  }

  /** Marks something that happened. */
  mark(kind: CopyEvent['kind'], text: string): void {
    const { progress } = this
    if (progress.events.length >= MAX_EVENTS) return
    progress.events.push({ second: progress.seconds, kind, text })
  }

  report(): CopyProgress {
    const { progress, timing } = this
    // The seconds of before a cut are known at once, its bytes only when they are sure again.
    const { before } = this.options
    const copied = Math.max(progress.copiedBytes, before?.copiedBytes ?? 0)
    const checked = Math.max(progress.checkedBytes, before?.checkedBytes ?? 0)
    const copyMean = progress.copySeconds > 0 ? copied / progress.copySeconds : 0
    const checkMean = this.checkSeconds > 0 ? checked / this.checkSeconds : 0
    const copyRate = progress.copySeconds > 1 && copyMean > 0 ? copyMean : timing.copyBytesPerSecond
    const checkRate = this.checkSeconds > 1 && checkMean > 0 ? checkMean : timing.checkBytesPerSecond
    const copyLeft = (progress.totalBytes - progress.copiedBytes) / copyRate
    const checkLeft = progress.verify ? (progress.totalBytes - progress.checkedBytes) / checkRate : 0
    return {
      ...progress,
      meanBytesPerSecond: progress.phase === 'check' ? checkMean : copyMean,
      secondsLeft: copyLeft + checkLeft,
      samples: [...progress.samples],
      events: [...progress.events],
      partSeconds: { ...progress.partSeconds },
    }
  }

  get seconds(): { copy: number; check: number } {
    return { copy: this.progress.copySeconds, check: this.checkSeconds }
  }

  private pass(seconds: number, partition: number | undefined): void {
    const { progress } = this
    progress.seconds += seconds
    if (progress.phase === 'copy' || progress.phase === 'rescue') progress.copySeconds += seconds
    if (progress.phase === 'check') this.checkSeconds += seconds
    if (partition === undefined) return
    progress.partSeconds[partition] = (progress.partSeconds[partition] ?? 0) + seconds
  }

  private closeSample(): void {
    const { progress } = this
    const span = progress.seconds - this.sampleFrom
    const phase = progress.phase === 'rescue' ? 'copy' : progress.phase
    // What is left at the end of a phase is too short to tell a speed.
    if (span >= this.sampleStep / 2 && this.sampleBytes > 0 && (phase === 'copy' || phase === 'check')) {
      progress.bytesPerSecond = this.sampleBytes / span
      progress.samples.push({ second: progress.seconds, bytesPerSecond: progress.bytesPerSecond, phase })
      if (progress.samples.length >= MAX_SAMPLES) {
        progress.samples = progress.samples.filter((_, i) => i % 2 === 1)
        this.sampleStep *= 2
      }
    }
    this.sampleFrom = progress.seconds
    this.sampleBytes = 0
  }
}

/** What of the seconds seen so far went into reading back. */
function checkSecondsOf({ phase, seconds, copySeconds }: CopyProgress): number {
  return phase === 'check' || phase === 'tables' ? Math.max(0, seconds - copySeconds) : 0
}
