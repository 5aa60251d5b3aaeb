import { createReadStream } from 'node:fs'
import type { Readable } from 'node:stream'
import { promisify } from 'node:util'
import { createGunzip, deflate, deflateRaw } from 'node:zlib'
import { Decompress } from 'fzstd'
import { CoreError } from '@/core/errors'
import type { Packing } from '@/core/image'

const bare = promisify<Uint8Array, object, Buffer>(deflateRaw)
const framed = promisify<Uint8Array, object, Buffer>(deflate)

/** Packs by deflate, as short as it gets, in a thread of the pool: several at once keep all cores busy. */
export function packGrain(bytes: Uint8Array, frame: 'bare' | 'zlib'): Promise<Uint8Array> {
  return (frame === 'zlib' ? framed : bare)(bytes, { level: 9, memLevel: 9, windowBits: 12 })
}

/** The bytes of a packed file, unpacked as they are read. Rejects with CoreError when the packing is damaged. */
export async function* unpackFile(file: string, packing: Packing): AsyncGenerator<Uint8Array> {
  const source = createReadStream(file, { highWaterMark: 1024 * 1024 })
  try {
    if (packing === 'gzip') yield* gunzip(source)
    else yield* unzstd(source)
  } catch (error) {
    if (error instanceof CoreError || (error as NodeJS.ErrnoException).syscall) throw error
    throw new CoreError(`The file cannot be unpacked: its ${packing} stream is damaged or breaks off.`)
  } finally {
    source.destroy()
  }
}

async function* gunzip(source: Readable): AsyncGenerator<Uint8Array> {
  const stream = createGunzip()
  source.once('error', (error) => stream.destroy(error))
  yield* source.pipe(stream) as AsyncIterable<Uint8Array>
}

/** Packed bytes; a block of 128 KiB takes four of them at least, so that these are 16 MiB unpacked at most. */
const PUSHED_AT_ONCE = 512

async function* unzstd(source: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array> {
  const ready: Uint8Array[] = []
  let ended = false
  const stream = new Decompress((chunk, final) => {
    if (chunk.length > 0) ready.push(chunk)
    ended ||= Boolean(final)
  })
  for await (const chunk of source) {
    // A few bytes may unpack to very many, and all that is pushed at once is unpacked at once.
    for (let at = 0; at < chunk.length; at += PUSHED_AT_ONCE) {
      stream.push(chunk.subarray(at, at + PUSHED_AT_ONCE))
      yield* ready.splice(0)
    }
  }
  stream.push(new Uint8Array(), true)
  yield* ready.splice(0)
  if (!ended) throw new CoreError('The file cannot be unpacked: its zstd stream breaks off.')
}
