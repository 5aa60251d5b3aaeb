import { alignUp } from '../../bytes/size'
import { crc32c } from '../../bytes/crc32'
import { guidToBytes, NIL_GUID } from '../../bytes/guid'
import { stringToUtf16, viewOf } from '../../bytes/struct'
import { CoreError } from '../../errors'
import type { ImageStore } from '../store'
import { vhdx } from '../vhdx'
import {
  BLOCK,
  chunkRatio,
  FILE_SIGNATURE,
  HEADER,
  HEADER_PLACES,
  ITEM_DISK,
  ITEM_REQUIRED,
  ITEMS,
  KIB64,
  METADATA_ENTRY,
  METADATA_HEADER,
  MIB,
  REGION,
  REGION_HEADER,
  REGION_PLACES,
  REGIONS,
} from '../vhdx-layout'
import { BlockImage, type BlockMap } from './block-image'
import type { TargetMaker, TargetOptions } from './port'
import { WholeTable } from './table'

const LOG_AT = MIB
const METADATA_AT = 2 * MIB
const TABLE_AT = 3 * MIB
/** Larger disks get larger blocks, so that the table stays short. */
const MOST_BLOCKS = 1024 * 1024
/** State in the low bits, place in MiB from bit 20 on. */
const PLACE_SHIFT = 20n

/** A dynamic VHDX: only blocks that hold something. Its block table stands in front of them. */
export const vhdxTarget: TargetMaker = (store, options) =>
  BlockImage.make(store, new VhdxMap(store, options), vhdx, options)

/** The smallest block with which the table of a disk stays short. */
export function vhdxBlockBytes(virtualBytes: number): number {
  let blockBytes = MIB
  while (virtualBytes / blockBytes > MOST_BLOCKS) blockBytes *= 2
  return blockBytes
}

class VhdxMap implements BlockMap {
  readonly blockBytes: number
  private readonly blocks: number
  private readonly ratio: number
  private readonly table: WholeTable
  private readonly first: number
  private readonly ids: { readonly file: string; readonly data: string; readonly disk: string }
  end: number

  constructor(
    private readonly store: ImageStore,
    private readonly options: TargetOptions,
  ) {
    const { virtualBytes, sectorSize, guid } = options
    const blockBytes = vhdxBlockBytes(virtualBytes)
    this.blockBytes = blockBytes
    this.blocks = Math.max(1, Math.ceil(virtualBytes / blockBytes))
    this.ratio = chunkRatio(blockBytes, sectorSize)
    const entries = this.blocks + Math.floor((this.blocks - 1) / this.ratio)
    this.table = new WholeTable(TABLE_AT, alignUp(entries * 8, MIB))
    this.end = this.first = TABLE_AT + this.table.bytes.length
    this.ids = { file: guid(), data: guid(), disk: guid() }
  }

  find(block: number): number {
    return Number(this.table.view.getBigUint64(this.entryAt(block), true) >> PLACE_SHIFT) * MIB
  }

  async take(block: number): Promise<number> {
    const place = this.end
    this.end += this.blockBytes
    const entry = (BigInt(place / MIB) << PLACE_SHIFT) | BigInt(BLOCK.present)
    this.table.view.setBigUint64(this.entryAt(block), entry, true)
    this.table.touch(this.entryAt(block))
    return place
  }

  async load(): Promise<void> {
    await this.table.load(this.store)
    for (let block = 0; block < this.blocks; block++) {
      const place = this.find(block)
      if (place === 0) continue
      if (place < this.first) throw new CoreError('The table of the image that was begun is damaged.')
      this.end = Math.max(this.end, place + this.blockBytes)
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
    return {
      length: this.end,
      writes: [
        { offset: METADATA_AT, bytes: this.metadata() },
        ...REGION_PLACES.map((offset) => ({ offset, bytes: this.regions() })),
        ...HEADER_PLACES.map((offset, i) => ({ offset, bytes: this.head(i + 1) })),
        { offset: 0, bytes: identifier() },
      ],
    }
  }

  /** Behind each chunk of blocks the table has an entry for their bitmap. */
  private entryAt(block: number): number {
    return (block + Math.floor(block / this.ratio)) * 8
  }

  private head(sequence: number): Uint8Array {
    const bytes = new Uint8Array(4096)
    HEADER.write(bytes, {
      signature: 'head',
      sequence: BigInt(sequence),
      fileWriteGuid: this.ids.file,
      dataWriteGuid: this.ids.data,
      logGuid: NIL_GUID,
      version: 1,
      logLength: MIB,
      logOffset: LOG_AT,
    })
    HEADER.write(bytes, { checksum: crc32c(bytes) })
    return bytes
  }

  private regions(): Uint8Array {
    const bytes = new Uint8Array(KIB64)
    const length = this.table.bytes.length
    REGION_HEADER.write(bytes, { signature: 'regi', count: 2 })
    REGION.write(bytes, { id: REGIONS.table, offset: TABLE_AT, length, required: 1 }, 16)
    REGION.write(bytes, { id: REGIONS.metadata, offset: METADATA_AT, length: MIB, required: 1 }, 48)
    REGION_HEADER.write(bytes, { checksum: crc32c(bytes) })
    return bytes
  }

  private metadata(): Uint8Array {
    const { virtualBytes, sectorSize } = this.options
    // The items lie behind the table of entries, and nothing behind them.
    const bytes = new Uint8Array(2 * KIB64)
    const u32 = (...values: number[]) => {
      const item = new Uint8Array(values.length * 4)
      values.forEach((value, i) => viewOf(item).setUint32(i * 4, value, true))
      return item
    }
    const size = new Uint8Array(8)
    viewOf(size).setBigUint64(0, BigInt(virtualBytes), true)
    const items: [string, Uint8Array, number][] = [
      [ITEMS.parameters, u32(this.blockBytes, 0), ITEM_REQUIRED],
      [ITEMS.diskSize, size, ITEM_REQUIRED | ITEM_DISK],
      [ITEMS.diskId, guidToBytes(this.ids.disk), ITEM_REQUIRED | ITEM_DISK],
      [ITEMS.logicalSector, u32(sectorSize), ITEM_REQUIRED | ITEM_DISK],
      // A disk that is no whole number of physical sectors is refused by some readers.
      [ITEMS.physicalSector, u32(virtualBytes % 4096 === 0 ? 4096 : sectorSize), ITEM_REQUIRED | ITEM_DISK],
    ]
    METADATA_HEADER.write(bytes, { signature: 'metadata', count: items.length })
    let at = KIB64
    items.forEach(([id, item, flags], i) => {
      METADATA_ENTRY.write(bytes, { id, offset: at, length: item.length, flags }, 32 + i * 32)
      bytes.set(item, at)
      at += item.length
    })
    return bytes
  }
}

function identifier(): Uint8Array {
  const bytes = new Uint8Array(KIB64)
  for (let i = 0; i < FILE_SIGNATURE.length; i++) bytes[i] = FILE_SIGNATURE.charCodeAt(i)
  bytes.set(stringToUtf16('Imbarco'), 8)
  return bytes
}
