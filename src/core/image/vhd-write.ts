import { isZero } from '../block/device'
import { alignUp, formatSize } from '../bytes/size'
import { viewOf } from '../bytes/struct'
import { CoreError } from '../errors'
import type { ImageSink, ImageWriter, WriterOptions } from './port'
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
} from './vhd-layout'

const BITMAP_BYTES = 512
const HEADER_AT = 512
const FIRST_FREE = HEADER_AT + 1024

/** A fixed VHD: the disk's bytes with a footer behind them. */
export function fixedVhdWriter(sink: ImageSink, options: WriterOptions): ImageWriter {
  return {
    write: (offset, from) => sink.write(offset, from),
    async finish(virtualBytes) {
      checkSize(virtualBytes)
      await sink.truncate(virtualBytes)
      await sink.write(virtualBytes, footer(virtualBytes, TYPE.fixed, options))
    },
  }
}

/** A dynamic VHD: only blocks of 2 MiB that hold something. Its table follows the header when the size is known. */
export function dynamicVhdWriter(sink: ImageSink, options: WriterOptions): ImageWriter {
  if (options.virtualBytes !== undefined) checkSize(options.virtualBytes)
  const known = options.virtualBytes === undefined ? undefined : Math.ceil(options.virtualBytes / BLOCK_BYTES)
  let end = known === undefined ? FIRST_FREE : alignUp(FIRST_FREE + known * 4, 4096)
  const sectors: number[] = []
  return {
    async write(offset, from) {
      for (let at = 0; at < from.length;) {
        const block = Math.floor((offset + at) / BLOCK_BYTES)
        const within = offset + at - block * BLOCK_BYTES
        const part = from.subarray(at, Math.min(from.length, at + BLOCK_BYTES - within))
        if (sectors[block] !== undefined || !isZero(part)) {
          if (sectors[block] === undefined) {
            // The data begins at a multiple of 4 KiB, its bitmap stands in the sector before.
            const data = alignUp(end + BITMAP_BYTES, 4096)
            sectors[block] = (data - BITMAP_BYTES) / 512
            await sink.write(data - BITMAP_BYTES, new Uint8Array(BITMAP_BYTES).fill(0xff))
            end = data + BLOCK_BYTES
          }
          await sink.write(sectors[block] * 512 + BITMAP_BYTES + within, part)
        }
        at += part.length
      }
    },
    async finish(virtualBytes) {
      checkSize(virtualBytes)
      const blocks = Math.ceil(virtualBytes / BLOCK_BYTES)
      const tableOffset = known === undefined ? alignUp(end, 4096) : FIRST_FREE
      const table = new Uint8Array(alignUp(blocks * 4, 512)).fill(0xff)
      const view = viewOf(table)
      for (let i = 0; i < blocks; i++) view.setUint32(i * 4, sectors[i] ?? UNUSED)
      const header = new Uint8Array(1024)
      HEADER.write(header, {
        cookie: HEADER_COOKIE,
        dataOffset: NO_OFFSET,
        tableOffset,
        version: 0x00010000,
        tableEntries: blocks,
        blockSize: BLOCK_BYTES,
      })
      HEADER.write(header, { checksum: checksumOf(header, 36) })
      const last = footer(virtualBytes, TYPE.dynamic, options)
      await sink.write(tableOffset, table)
      await sink.write(HEADER_AT, header)
      await sink.write(0, last)
      const at = Math.max(end, tableOffset + table.length)
      await sink.truncate(at)
      await sink.write(at, last)
    },
  }
}

function checkSize(virtualBytes: number): void {
  if (virtualBytes > MAX_BYTES) {
    throw new CoreError(
      `A VHD holds at most ${formatSize(MAX_BYTES)}, and this disk has ${formatSize(virtualBytes)}. Choose VHDX.`,
    )
  }
}

function footer(virtualBytes: number, type: number, { time, guid }: WriterOptions): Uint8Array {
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
