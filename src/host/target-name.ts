import { lstat, realpath, stat } from 'node:fs/promises'
import path from 'node:path'
import { NoFile } from './errors'

/**
 * The file that a name stands for when something is written under it: links are followed, so that what they lead to is
 * replaced and not the link. Rejects with NoFile for a folder, a device or anything else that is no plain file.
 */
export async function resolveTarget(file: string): Promise<string> {
  const name = path.basename(file)
  const link = await lstat(file).catch(() => undefined)
  if (!link) {
    const folder = await stat(path.dirname(path.resolve(file))).catch(() => undefined)
    if (!folder?.isDirectory()) throw new NoFile(`There is no folder ${path.dirname(file)} to write ${name} into.`)
    return file
  }
  const found = await stat(file).catch(() => undefined)
  if (!found) throw new NoFile(`${name} is a link that leads nowhere, so nothing is written there.`)
  if (found.isDirectory()) throw new NoFile(`${name} is a folder, not a file.`)
  if (!found.isFile())
    throw new NoFile(`${name} is a device or a pipe, and only files are written. Nothing was written to it.`)
  return realpath(file)
}
