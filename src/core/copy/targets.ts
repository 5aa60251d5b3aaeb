import { CoreError } from '../errors'
import type { Extent } from '../block/device'
import type { TargetMedium } from '../block/medium'
import { holdsNothing } from './piece-digests'

/** One of the media that are written in one reading. */
interface Target {
  readonly index: number
  readonly device: TargetMedium
}

/**
 * The media that are written in one reading of the source. One that fails is let go and the others go on; when the
 * last one fails, its error ends the copy.
 */
export class Targets {
  private readonly letGo = new Map<number, string>()
  private readonly all: readonly Target[]
  readonly size: number
  readonly sectorSize: 512 | 4096

  /** Throws CoreError unless all are of one size. */
  constructor(
    devices: readonly TargetMedium[],
    letGo: ReadonlyMap<number, string>,
    private readonly onLetGo: (target: number, why: string) => Promise<void>,
  ) {
    const [first, ...others] = devices
    if (others.some((d) => d.size !== first.size || d.logicalSectorSize !== first.logicalSectorSize)) {
      throw new CoreError('Drives that are written in one reading are all of one size.')
    }
    if (others.some((d) => Boolean(d.header) !== Boolean(first.header))) {
      throw new CoreError('Drives and images are not written in one reading.')
    }
    this.size = first.size
    this.sectorSize = first.logicalSectorSize
    this.all = devices.map((device, index) => ({ index, device }))
    for (const [index, why] of letGo) this.letGo.set(index, why)
  }

  /** Those that are still written. */
  get now(): readonly Target[] {
    return this.all.filter(({ index }) => !this.letGo.has(index))
  }

  /** Why each that was let go was. */
  get gone(): ReadonlyMap<number, string> {
    return this.letGo
  }

  /** All of them can be told to forget what they hold. */
  get forget(): boolean {
    return this.now.every(({ device }) => device.discard)
  }

  async each(work: (device: TargetMedium, index: number) => Promise<void>): Promise<void> {
    const failures: { index: number; error: unknown }[] = []
    await Promise.all(
      this.now.map(({ device, index }) =>
        work(device, index).catch((error: unknown) => void failures.push({ index, error })),
      ),
    )
    // Calls overlap, and a target that fails does so in all of them: it is let go once, by the first.
    const failed = failures.filter(({ index }) => !this.letGo.has(index))
    if (failed.length === 0) {
      if (failures.length > 0 && this.now.length === 0) throw failures[0].error
      return
    }
    if (failed.length === this.now.length) throw failed[0].error
    const reason = (error: unknown) => (error instanceof Error ? error.message : String(error))
    for (const { index, error } of failed) this.letGo.set(index, reason(error))
    for (const { index, error } of failed) await this.onLetGo(index, reason(error))
  }

  /** All of them say that they read as zeros there. */
  async holdNothing(extent: Extent): Promise<boolean> {
    for (const { device } of this.now) if (!(await holdsNothing(device, extent))) return false
    return true
  }

  write(offset: number, bytes: Uint8Array): Promise<void> {
    return this.each((device) => device.write(offset, bytes))
  }

  /** Marks all of them as unfinished; stored when it resolves. */
  async mark(marker: Uint8Array): Promise<void> {
    await this.each((device) => (device.header ? device.header.mark(marker) : device.write(0, marker)))
    await this.flush()
  }

  flush(): Promise<void> {
    return this.each((device) => device.flush())
  }
}
