import { readdir, readFile, stat } from 'node:fs/promises'
import path from 'node:path'
import type { DriverFiles } from '@/core/drivers/packages'
import { hostError } from './errors'

/** A folder of this host, read as a volume is: paths begin with `/`, which is the folder itself. */
export function folderFiles(folder: string): DriverFiles {
  const real = (inside: string) => path.join(folder, path.posix.normalize(`/${inside}`))
  return {
    async list(inside) {
      try {
        const entries = await readdir(real(inside), { withFileTypes: true })
        return await Promise.all(
          entries
            .filter((e) => e.isFile() || e.isDirectory())
            .map(async (e) => {
              const at = path.posix.join('/', inside, e.name)
              const kind = e.isDirectory() ? ('directory' as const) : ('file' as const)
              return { name: e.name, path: at, kind, sizeBytes: kind === 'file' ? (await stat(real(at))).size : 0 }
            }),
        )
      } catch (error) {
        throw hostError(error, inside)
      }
    },
    async readFile(inside, offset = 0, length = Number.MAX_SAFE_INTEGER) {
      try {
        return new Uint8Array(await readFile(real(inside))).subarray(offset, offset + length)
      } catch (error) {
        throw hostError(error, inside)
      }
    },
  }
}
