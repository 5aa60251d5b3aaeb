import { Blake3Hasher } from '@napi-rs/blake-hash'
import { isZero, readBytes } from '@/core/block/device'
import { KIB, MIB } from '@/core/bytes/size'
import { driveById, withDrive } from '@/server/world'

const READ = 4 * MIB
const PIECE = 64 * KIB

/**
 * Digest of what a drive of the bench holds within stretches of it, all of it without: of every piece that is not zeros,
 * with its place, so that zeros which are stored and room that never was written are the same.
 */
export async function digestOfDrive(id: string, stretches?: readonly (readonly [number, number])[]): Promise<string> {
  return withDrive(await driveById(id), async (device) => {
    const hash = new Blake3Hasher()
    for (const [from, to] of stretches ?? [[0, device.size]]) {
      for (const { offset, length } of await device.mapped!(from, to - from)) {
        for (let at = offset; at < offset + length;) {
          const end = Math.min(offset + length, Math.floor(at / READ) * READ + READ)
          const bytes = await readBytes(device, at, end - at)
          for (let i = 0; i < bytes.length;) {
            const next = Math.min(bytes.length, Math.floor((at + i) / PIECE) * PIECE + PIECE - at)
            const piece = bytes.subarray(i, next)
            if (!isZero(piece)) hash.update(String(at + i)).update(piece)
            i = next
          }
          at = end
        }
      }
    }
    return hash.digest('hex')
  })
}
