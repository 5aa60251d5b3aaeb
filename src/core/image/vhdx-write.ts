import { isZero } from '../block/device'
import { alignUp } from '../bytes/size'
import { crc32c } from '../bytes/crc32'
import { guidToBytes, NIL_GUID } from '../bytes/guid'
import { stringToUtf16, viewOf } from '../bytes/struct'
import { gather } from './gather'
import type { ImageSink, ImageWriter, WriterOptions } from './port'
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
} from './vhdx-layout'

const LOG_AT = MIB
const METADATA_AT = 2 * MIB
const FIRST_FREE = 3 * MIB
/** Larger disks get larger blocks, so that the table stays short. */
const MOST_BLOCKS = 1024 * 1024

/** A dynamic VHDX: only blocks that hold something. Its block table stands in front when the size is known. */
export function vhdxWriter(sink: ImageSink, options: WriterOptions): ImageWriter {
  const { sectorSize, virtualBytes: known } = options
  let blockSize = MIB
  while ((known ?? 0) / blockSize > MOST_BLOCKS) blockSize *= 2
  const tableBytes = (virtualBytes: number) => alignUp(tableEntries(virtualBytes, blockSize, sectorSize) * 8, MIB)
  let end = known === undefined ? FIRST_FREE : FIRST_FREE + tableBytes(known)
  const places: number[] = []
  return {
    async write(offset, from) {
      const out = gather(sink, from)
      for (let at = 0; at < from.length;) {
        const block = Math.floor((offset + at) / blockSize)
        const within = offset + at - block * blockSize
        const part = from.subarray(at, Math.min(from.length, at + blockSize - within))
        if (places[block] !== undefined || !isZero(part)) {
          if (places[block] === undefined) {
            places[block] = end
            end += blockSize
          }
          await out.put(places[block] + within, at, at + part.length)
        }
        at += part.length
      }
      await out.send()
    },
    async finish(virtualBytes) {
      const length = tableBytes(virtualBytes)
      const tableAt = known === undefined ? end : FIRST_FREE
      const ratio = chunkRatio(blockSize, sectorSize)
      const table = new Uint8Array(length)
      const view = viewOf(table)
      places.forEach((place, block) => {
        const entry = (BigInt(place / MIB) << 20n) | BigInt(BLOCK.present)
        view.setBigUint64((block + Math.floor(block / ratio)) * 8, entry, true)
      })
      await sink.truncate(Math.max(end, tableAt + length))
      await sink.write(tableAt, table)
      await sink.write(METADATA_AT, metadata(virtualBytes, blockSize, options))
      for (const place of REGION_PLACES) await sink.write(place, regions(tableAt, length))
      const guids = [options.guid(), options.guid()]
      for (const [i, place] of HEADER_PLACES.entries()) await sink.write(place, header(i + 1, guids))
      await sink.write(0, identifier())
    },
  }
}

function tableEntries(virtualBytes: number, blockSize: number, sectorSize: number): number {
  const blocks = Math.max(1, Math.ceil(virtualBytes / blockSize))
  return blocks + Math.floor((blocks - 1) / chunkRatio(blockSize, sectorSize))
}

function identifier(): Uint8Array {
  const bytes = new Uint8Array(KIB64)
  for (let i = 0; i < FILE_SIGNATURE.length; i++) bytes[i] = FILE_SIGNATURE.charCodeAt(i)
  bytes.set(stringToUtf16('Imbarco'), 8)
  return bytes
}

function header(sequence: number, [fileWriteGuid, dataWriteGuid]: string[]): Uint8Array {
  const bytes = new Uint8Array(4096)
  HEADER.write(bytes, {
    signature: 'head',
    sequence: BigInt(sequence),
    fileWriteGuid,
    dataWriteGuid,
    logGuid: NIL_GUID,
    version: 1,
    logLength: MIB,
    logOffset: LOG_AT,
  })
  HEADER.write(bytes, { checksum: crc32c(bytes) })
  return bytes
}

function regions(tableAt: number, tableLength: number): Uint8Array {
  const bytes = new Uint8Array(KIB64)
  REGION_HEADER.write(bytes, { signature: 'regi', count: 2 })
  REGION.write(bytes, { id: REGIONS.table, offset: tableAt, length: tableLength, required: 1 }, 16)
  REGION.write(bytes, { id: REGIONS.metadata, offset: METADATA_AT, length: MIB, required: 1 }, 48)
  REGION_HEADER.write(bytes, { checksum: crc32c(bytes) })
  return bytes
}

function metadata(virtualBytes: number, blockSize: number, { sectorSize, guid }: WriterOptions): Uint8Array {
  const bytes = new Uint8Array(MIB)
  const u32 = (...values: number[]) => {
    const item = new Uint8Array(values.length * 4)
    values.forEach((value, i) => viewOf(item).setUint32(i * 4, value, true))
    return item
  }
  const size = new Uint8Array(8)
  viewOf(size).setBigUint64(0, BigInt(virtualBytes), true)
  const items: [string, Uint8Array, number][] = [
    [ITEMS.parameters, u32(blockSize, 0), ITEM_REQUIRED],
    [ITEMS.diskSize, size, ITEM_REQUIRED | ITEM_DISK],
    [ITEMS.diskId, guidToBytes(guid()), ITEM_REQUIRED | ITEM_DISK],
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
