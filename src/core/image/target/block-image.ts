import { Mutex } from 'async-mutex'
import { checkRange, type Extent, isZero } from '../../block/device'
import type { BlockDevice } from '../../block/device'
import type { MediumHeader, TargetMedium } from '../../block/medium'
import { CoreError } from '../../errors'
import type { ImageFormat } from '../port'
import { gather } from '../gather'
import { type Closing, closedView, closeStore, type ImageStore } from '../store'
import { heldIn, inBlocks, MARK_BYTES, takeUp } from './blocks'
import type { TargetOptions } from './port'

/** Where the blocks of a disk stand in the file of its image: what one format does differently from another. */
export interface BlockMap {
  readonly blockBytes: number
  /** The byte of the file at which a block stands; 0 where it holds nothing. At once where its table is held. */
  find(block: number): number | Promise<number>
  /** Makes room for a block at the end of what is used. */
  take(block: number): Promise<number>
  /** Takes up what an earlier run has left in the tables of the file. */
  load(): Promise<void>
  /** Forgets all blocks. */
  clear(): void
  /** Writes what of the tables was changed. */
  save(): Promise<void>
  /** The end of what is used. */
  readonly end: number
  /** What is missing to an image. What is long of it is written right away. */
  close(): Promise<Closing>
}

/** What all media that are images with a header have in common. */
export function headerOf(
  store: ImageStore,
  format: ImageFormat,
  { virtualBytes, sectorSize }: Pick<TargetOptions, 'virtualBytes' | 'sectorSize'>,
  /** Brings everything into the file, and tells what is missing to an image. */
  closing: () => Promise<Closing>,
): MediumHeader {
  const openParent = () => Promise.reject(new CoreError('This image builds on no other.'))
  const open = (file: Parameters<ImageFormat['open']>[0]) => format.open(file, { sectorSize, openParent })
  const opened = async (file: Parameters<ImageFormat['open']>[0]): Promise<BlockDevice> => {
    const { virtualBytes: found, device } = await open(file)
    if (found !== virtualBytes) throw new CoreError('The image does not give the disk the size that it has.')
    return device
  }
  return {
    async mark(bytes) {
      const head = new Uint8Array(MARK_BYTES)
      head.set(bytes.subarray(0, MARK_BYTES))
      await store.write(0, head)
      await store.flush()
    },
    async read() {
      const head = new Uint8Array(MARK_BYTES)
      await store.read(0, head)
      return head
    },
    async readBack() {
      const view = closedView(store, await closing())
      await store.uncache?.()
      return opened(view)
    },
    async finish() {
      await closeStore(store, await closing())
      await opened(store)
    },
    isFinished: async () => {
      if (!(await format.recognise(store).catch(() => false))) return false
      return opened(store).then(
        () => true,
        () => false,
      )
    },
  }
}

/** The disk of a new image that has room for blocks that hold something, and for no others. Any place can be written, and again. */
export class BlockImage implements TargetMedium {
  readonly size: number
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize = 4096
  readonly header: MediumHeader
  /** Tables are looked at and changed by one at a time. */
  private readonly turn = new Mutex()

  private constructor(
    private readonly store: ImageStore,
    private readonly map: BlockMap,
    format: ImageFormat,
    options: TargetOptions,
  ) {
    this.size = options.virtualBytes
    this.logicalSectorSize = options.sectorSize
    this.header = headerOf(store, format, options, async () => {
      await this.flush()
      return this.turn.runExclusive(() => map.close())
    })
  }

  static async make(
    store: ImageStore,
    map: BlockMap,
    format: ImageFormat,
    options: TargetOptions,
  ): Promise<BlockImage> {
    if (options.begun) await takeUp(store, map, format)
    return new BlockImage(store, map, format, options)
  }

  read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    return this.turn.runExclusive(async () => {
      for (const { block, within, start, end } of inBlocks(offset, into.length, this.map.blockBytes)) {
        const found = this.map.find(block)
        const place = typeof found === 'number' ? found : await found
        const part = into.subarray(start, end)
        if (place === 0) part.fill(0)
        else await this.store.read(place + within, part)
      }
    })
  }

  write(offset: number, from: Uint8Array): Promise<void> {
    checkRange(this, offset, from.length)
    return this.turn.runExclusive(async () => {
      const out = gather(this.store, from)
      for (const { block, within, start, end } of inBlocks(offset, from.length, this.map.blockBytes)) {
        const found = this.map.find(block)
        let place = typeof found === 'number' ? found : await found
        if (place === 0) {
          if (isZero(from.subarray(start, end))) continue
          place = await this.map.take(block)
        }
        await out.put(place + within, start, end)
      }
      await out.send()
    })
  }

  async flush(): Promise<void> {
    await this.turn.runExclusive(() => this.map.save())
    await this.store.flush()
  }

  /** Of a disk as a whole only. */
  discard(offset: number, length: number): Promise<void> {
    if (offset !== 0 || length !== this.size) throw new CoreError('Only a whole image can be forgotten.')
    return this.turn.runExclusive(async () => {
      this.map.clear()
      await this.store.truncate(MARK_BYTES)
    })
  }

  mapped(offset: number, length: number): Promise<readonly Extent[]> {
    return this.turn.runExclusive(async () => {
      return heldIn(offset, length, this.map.blockBytes, (block) => {
        const found = this.map.find(block)
        return typeof found === 'number' ? found !== 0 : found.then((place) => place !== 0)
      })
    })
  }
}
