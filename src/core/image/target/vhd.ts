import { alignUp, formatLimit, formatSize } from '../../bytes/size'
import { CoreError } from '../../errors'
import type { ImageStore } from '../store'
import { vhd } from '../vhd'
import {
  BLOCK_BYTES,
  checksumOf,
  chsOf,
  EPOCH,
  FOOTER,
  FOOTER_COOKIE,
  HEADER,
  HEADER_COOKIE,
  MAX_BYTES,
  NO_OFFSET,
  TYPE,
  UNUSED,
} from '../vhd-layout'
import { BlockImage, type BlockMap } from './block-image'
import { FlatDisk } from './flat'
import type { TargetMaker, TargetOptions } from './port'
import { WholeTable } from './table'

const BITMAP_BYTES = 512
const HEADER_AT = 512
/** The table begins where the mark of an unfinished copy has ended. */
const TABLE_AT = 4096

/** A fixed VHD: the disk's bytes with a footer behind them. The disk's first sector carries the mark, as a drive's does. */
export const fixedVhdTarget: TargetMaker = async (store, options) => {
  const { virtualBytes, sectorSize } = options
  checkSize(virtualBytes)
  if (!options.begun) {
    await store.truncate(virtualBytes)
    await store.write(virtualBytes, footer(TYPE.fixed, options))
  } else if (store.size !== virtualBytes + FOOTER.size)
    throw new CoreError('The image that was begun is not of the size of this disk.')
  return new FixedDisk(store, virtualBytes, sectorSize, footer(TYPE.fixed, options))
}

class FixedDisk extends FlatDisk {
  constructor(
    store: ImageStore,
    size: number,
    sectorSize: 512 | 4096,
    private readonly end: Uint8Array,
  ) {
    super(store, size, sectorSize)
  }

  override async discard(offset: number, length: number): Promise<void> {
    await super.discard(offset, length)
    await this.store.write(this.size, this.end)
  }
}

/** A dynamic VHD: only blocks of 2 MiB that hold something. */
export const dynamicVhdTarget: TargetMaker = (store, options) => {
  checkSize(options.virtualBytes)
  return BlockImage.make(store, new VhdMap(store, options), vhd, options)
}

class VhdMap implements BlockMap {
  readonly blockBytes = BLOCK_BYTES
  private readonly blocks: number
  private readonly table: WholeTable
  private readonly first: number
  end: number

  constructor(
    private readonly store: ImageStore,
    private readonly options: TargetOptions,
  ) {
    this.blocks = Math.ceil(options.virtualBytes / BLOCK_BYTES)
    const length = alignUp(this.blocks * 4, 512)
    this.table = new WholeTable(TABLE_AT, length, 0xff)
    this.end = this.first = alignUp(TABLE_AT + length, 4096)
  }

  find(block: number): number {
    const sector = this.table.view.getUint32(block * 4)
    return sector === UNUSED ? 0 : sector * 512 + BITMAP_BYTES
  }

  async take(block: number): Promise<number> {
    // The data begins at a multiple of 4 KiB, its bitmap stands in the sector before.
    const data = alignUp(this.end + BITMAP_BYTES, 4096)
    await this.store.write(data - BITMAP_BYTES, new Uint8Array(BITMAP_BYTES).fill(0xff))
    this.table.view.setUint32(block * 4, (data - BITMAP_BYTES) / 512)
    this.table.touch(block * 4)
    this.end = data + BLOCK_BYTES
    return data
  }

  async load(): Promise<void> {
    await this.table.load(this.store)
    for (let block = 0; block < this.blocks; block++) {
      // Where the table was never stored the file holds zeros.
      if (this.table.view.getUint32(block * 4) === 0) this.table.view.setUint32(block * 4, UNUSED)
      const data = this.find(block)
      if (data === 0) continue
      if (data < this.first || data % 4096 !== 0)
        throw new CoreError('The table of the image that was begun is damaged.')
      this.end = Math.max(this.end, data + BLOCK_BYTES)
    }
  }

  clear(): void {
    this.table.clear()
    this.end = this.first
  }

  save(): Promise<void> {
    return this.table.save(this.store)
  }

  async close() {
    const header = new Uint8Array(1024)
    HEADER.write(header, {
      cookie: HEADER_COOKIE,
      dataOffset: NO_OFFSET,
      tableOffset: TABLE_AT,
      version: 0x00010000,
      tableEntries: this.blocks,
      blockSize: BLOCK_BYTES,
    })
    HEADER.write(header, { checksum: checksumOf(header, 36) })
    const last = footer(TYPE.dynamic, this.options)
    // All of the mark goes, also where it is longer than a footer.
    const front = new Uint8Array(TABLE_AT)
    front.set(last)
    front.set(header, HEADER_AT)
    return {
      length: this.end + last.length,
      writes: [
        { offset: this.end, bytes: last },
        { offset: 0, bytes: front },
      ],
    }
  }
}

function checkSize(virtualBytes: number): void {
  if (virtualBytes > MAX_BYTES) {
    throw new CoreError(
      `A VHD holds at most ${formatLimit(MAX_BYTES)}, and this disk has ${formatSize(virtualBytes)}. Choose VHDX.`,
    )
  }
}

function footer(type: number, { virtualBytes, time, guid }: TargetOptions): Uint8Array {
  const bytes = new Uint8Array(512)
  FOOTER.write(bytes, {
    cookie: FOOTER_COOKIE,
    features: 2,
    version: 0x00010000,
    dataOffset: type === TYPE.fixed ? NO_OFFSET : BigInt(HEADER_AT),
    time: Math.max(0, Math.floor(time / 1000) - EPOCH),
    creator: 'imbc',
    creatorVersion: 0x00010000,
    creatorHost: 'Wi2k',
    originalSize: virtualBytes,
    currentSize: virtualBytes,
    ...chsOf(virtualBytes),
    type,
    uuid: guid(),
  })
  FOOTER.write(bytes, { checksum: checksumOf(bytes, 64) })
  return bytes
}
