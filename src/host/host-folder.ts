import { readdir, readFile, rename, rm, stat } from 'node:fs/promises'
import path from 'node:path'
import { CoreError } from '@/core/errors'
import type { FolderFile, ImageFolder } from '@/core/image/folder'
import { hostError } from './errors'
import { isThere, publish } from './files'
import { HostStore } from './host-store'
import { syncFolderOf } from './sync-folder'
import { writeWhole } from './whole-file'

/** A folder of this host that images are kept in. */
export class HostFolder implements ImageFolder {
  constructor(readonly path: string) {}

  has(name: string): Promise<boolean> {
    return isThere(this.at(name))
  }

  /** Only what is written takes room, so nothing is set aside. */
  create(name: string): Promise<FolderFile> {
    return HostStore.create(this.at(name))
  }

  open(name: string): Promise<FolderFile> {
    return HostStore.open(this.at(name))
  }

  async rename(from: string, to: string, { replacing }: { readonly replacing: boolean }): Promise<void> {
    try {
      await (replacing ? rename(this.at(from), this.at(to)) : publish(this.at(from), this.at(to)))
      await syncFolderOf(this.at(to))
    } catch (error) {
      throw hostError(error, to)
    }
  }

  remove(name: string): Promise<void> {
    return rm(this.at(name), { force: true })
  }

  putText(name: string, text: string): Promise<void> {
    return writeWhole(this.at(name), text)
  }

  async list() {
    const files = (await readdir(this.path, { withFileTypes: true })).filter((entry) => entry.isFile())
    return Promise.all(files.map(async ({ name }) => ({ name, bytes: (await stat(this.at(name))).size })))
  }

  async text(name: string, mostBytes: number): Promise<string | undefined> {
    const found = await stat(this.at(name)).catch(() => undefined)
    if (!found?.isFile()) return undefined
    if (found.size > mostBytes) throw new CoreError(`${name} is larger than it can be.`)
    return readFile(this.at(name), 'utf8')
  }

  async lengths(name: string) {
    return lengthsOf(this.at(name))
  }

  private at(name: string): string {
    return path.join(this.path, name)
  }
}

/** Length of a file, and what of it the host stores. */
export async function lengthsOf(file: string) {
  const { size, blocks } = await stat(file)
  return { fileBytes: size, hostBytes: blocks * 512 }
}
