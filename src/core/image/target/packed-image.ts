import { Mutex } from 'async-mutex'
import { checkRange, type Extent, isZero } from '../../block/device'
import type { MediumHeader, TargetMedium } from '../../block/medium'
import { CoreError } from '../../errors'
import type { ImageFormat } from '../port'
import type { Closing, ImageStore } from '../store'
import { headerOf } from './block-image'
import { heldIn, inBlocks, MARK_BYTES, takeUp } from './blocks'
import type { TargetOptions } from './port'

/** Where the packed grains of a disk stand in the file of its image. */
export interface PackedMap {
  readonly blockBytes: number
  /** What a packed grain is framed by. */
  readonly frame: 'bare' | 'zlib'
  holds(grain: number): Promise<boolean>
  /** Appends a grain, which `packed` gives in fewer bytes. One that stood elsewhere before is not found there any more. */
  put(grain: number, plain: Uint8Array, packed: Uint8Array): Promise<void>
  /** The bytes of a grain that is there. */
  get(grain: number): Promise<Uint8Array>
  load(): Promise<void>
  clear(): void
  save(): Promise<void>
  readonly end: number
  close(): Promise<Closing>
}

/** Grains that are being packed at once: enough for every core to have one and another one waiting. */
const PACKED_AT_ONCE = 16

/**
 * The disk of a new image whose grains are packed. It can only be appended: a grain that is written again goes to the
 * end of the file, and the room it had is lost; so it is to be written in order.
 */
export class PackedImage implements TargetMedium {
  readonly appends = true
  readonly size: number
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize = 4096
  readonly header: MediumHeader
  private readonly turn = new Mutex()
  private current: { readonly grain: number; readonly plain: Uint8Array } | undefined
  private readonly waiting: { grain: number; plain: Uint8Array; packed: Promise<Uint8Array> }[] = []

  private constructor(
    private readonly store: ImageStore,
    private readonly map: PackedMap,
    format: ImageFormat,
    options: TargetOptions,
    private readonly pack: NonNullable<TargetOptions['pack']>,
  ) {
    this.size = options.virtualBytes
    this.logicalSectorSize = options.sectorSize
    this.header = headerOf(store, format, options, async () => {
      await this.flush()
      return this.turn.runExclusive(() => map.close())
    })
  }

  /** Throws CoreError where nothing packs. */
  static async make(
    store: ImageStore,
    map: PackedMap,
    format: ImageFormat,
    options: TargetOptions,
  ): Promise<PackedImage> {
    if (!options.pack) throw new CoreError('Packing needs a program that packs, and there is none here.')
    if (options.begun) await takeUp(store, map, format)
    return new PackedImage(store, map, format, options, options.pack)
  }

  read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    return this.turn.runExclusive(async () => {
      await this.settle()
      for (const { block: grain, within, start, end } of inBlocks(offset, into.length, this.map.blockBytes)) {
        const part = into.subarray(start, end)
        if (await this.map.holds(grain)) part.set((await this.map.get(grain)).subarray(within, within + end - start))
        else part.fill(0)
      }
    })
  }

  write(offset: number, from: Uint8Array): Promise<void> {
    checkRange(this, offset, from.length)
    return this.turn.runExclusive(async () => {
      for (const { block: grain, within, start, end } of inBlocks(offset, from.length, this.map.blockBytes)) {
        if (this.current?.grain !== grain) {
          await this.send()
          this.current = { grain, plain: await this.before(grain, end - start) }
        }
        this.current.plain.set(from.subarray(start, end), within)
      }
    })
  }

  async flush(): Promise<void> {
    await this.turn.runExclusive(async () => {
      await this.settle()
      await this.map.save()
    })
    await this.store.flush()
  }

  /** Of a disk as a whole only. */
  discard(offset: number, length: number): Promise<void> {
    if (offset !== 0 || length !== this.size) throw new CoreError('Only a whole image can be forgotten.')
    return this.turn.runExclusive(async () => {
      this.current = undefined
      await Promise.allSettled(this.waiting.splice(0).map(({ packed }) => packed))
      this.map.clear()
      await this.store.truncate(MARK_BYTES)
    })
  }

  mapped(offset: number, length: number): Promise<readonly Extent[]> {
    return this.turn.runExclusive(async () => {
      await this.settle()
      return heldIn(offset, length, this.map.blockBytes, (grain) => this.map.holds(grain))
    })
  }

  /** What a grain holds of which so many bytes are written now. */
  private async before(grain: number, bytes: number): Promise<Uint8Array> {
    const plain = new Uint8Array(this.map.blockBytes)
    if (bytes === plain.length) return plain
    if (this.waiting.some((one) => one.grain === grain)) await this.settle()
    if (await this.map.holds(grain)) plain.set(await this.map.get(grain))
    return plain
  }

  private async settle(): Promise<void> {
    await this.send()
    while (this.waiting.length > 0) await this.place()
  }

  /** Lets the grain that is being written be packed. */
  private async send(): Promise<void> {
    if (!this.current) return
    const { grain, plain } = this.current
    this.current = undefined
    if (isZero(plain) && !this.waiting.some((one) => one.grain === grain) && !(await this.map.holds(grain))) return
    const packed = this.pack(plain, this.map.frame)
    // A failure is met when its turn comes; this only keeps it from counting as unhandled until then.
    packed.catch(() => undefined)
    this.waiting.push({ grain, plain, packed })
    if (this.waiting.length >= PACKED_AT_ONCE) await this.place()
  }

  private async place(): Promise<void> {
    const { grain, plain, packed } = this.waiting.shift()!
    await this.map.put(grain, plain, await packed)
  }
}
