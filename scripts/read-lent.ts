// Reads all of what is lent at an address, as a copy reads it, and says how many seconds that took.
import { MIB } from '@/core/bytes/size'
import { nbdAddress } from '@/nbd/address'
import { NbdFile } from '@/nbd/client'
import { keyOfCode } from '@/nbd/key'

export async function readLent(uri: string, code: string): Promise<number> {
  const lent = await NbdFile.open(nbdAddress(uri), { key: keyOfCode(code) })
  const buffers = [0, 1].map(() => new Uint8Array(4 * MIB))
  const start = performance.now()
  // Two at once, as a copy reads ahead of what it writes.
  let at = 0
  await Promise.all(
    buffers.map(async (buffer) => {
      while (at < lent.size) {
        const from = at
        const length = Math.min(buffer.length, lent.size - from)
        at += length
        await lent.read(from, buffer.subarray(0, length))
      }
    }),
  )
  const seconds = (performance.now() - start) / 1000
  await lent.close()
  return seconds
}

const [uri, code] = process.argv.slice(2)
if (uri?.startsWith('nbd') && code !== undefined) console.log(await readLent(uri, code))
