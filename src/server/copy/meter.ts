import type { CopyStep } from '@/core/copy/run'
import type { LegTiming } from '@/core/route/types'
import type { CopyProgress } from '@/core/copy/progress'

/** How many speed samples a copy keeps; when full, every other one goes and the step doubles. */
const MAX_SAMPLES = 240

/** Counts a copy's bytes and modelled seconds and tells how far it is. */
export class CopyMeter {
  private readonly progress: { -readonly [K in keyof CopyProgress]: CopyProgress[K] }
  private sampleStep = 1
  private sampleBytes = 0
  private sampleFrom = 0
  private checkSeconds = 0

  constructor(
    private readonly timing: LegTiming,
    totalBytes: number,
    private readonly titles: ReadonlyMap<number, string>,
  ) {
    this.progress = {
      phase: 'erase',
      copiedBytes: 0,
      checkedBytes: 0,
      totalBytes,
      sourceOffset: 0,
      partition: '',
      seconds: 0,
      copySeconds: 0,
      bytesPerSecond: 0,
      meanBytesPerSecond: 0,
      secondsLeft: 0,
      samples: [],
    }
  }

  /** Seconds the step would have taken on the drives and links of the leg. */
  add({ phase, bytes, piece }: CopyStep): number {
    const { progress, timing } = this
    if (phase !== progress.phase) this.closeSample()
    progress.phase = phase
    if (piece) {
      progress.sourceOffset = piece.sourceOffset
      progress.partition = this.titles.get(piece.partition) ?? ''
    }
    const rate = phase === 'check' ? timing.checkBytesPerSecond : timing.copyBytesPerSecond
    const seconds = bytes / rate + timing.requestSeconds
    progress.seconds += seconds
    if (phase === 'copy') {
      progress.copiedBytes += bytes
      progress.copySeconds += seconds
    }
    if (phase === 'check') {
      progress.checkedBytes += bytes
      this.checkSeconds += seconds
    }
    this.sampleBytes += bytes
    if (progress.seconds - this.sampleFrom >= this.sampleStep) this.closeSample()
    return seconds
  }

  report(): CopyProgress {
    const { progress, timing } = this
    const done = progress.copiedBytes + progress.checkedBytes
    const copyRate = progress.copySeconds > 1 ? progress.copiedBytes / progress.copySeconds : timing.copyBytesPerSecond
    const checkRate = this.checkSeconds > 1 ? progress.checkedBytes / this.checkSeconds : timing.checkBytesPerSecond
    const copyLeft = (progress.totalBytes - progress.copiedBytes) / copyRate
    const checkLeft = (progress.totalBytes - progress.checkedBytes) / checkRate
    return {
      ...progress,
      meanBytesPerSecond: progress.seconds > 0 ? done / progress.seconds : 0,
      secondsLeft: copyLeft + checkLeft,
      samples: [...progress.samples],
    }
  }

  get seconds(): { copy: number; check: number } {
    return { copy: this.progress.copySeconds, check: this.checkSeconds }
  }

  private closeSample(): void {
    const { progress } = this
    const span = progress.seconds - this.sampleFrom
    const phase = progress.phase
    if (span > 0 && this.sampleBytes > 0 && (phase === 'copy' || phase === 'check')) {
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
