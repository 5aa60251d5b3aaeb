import { CoreError } from '../../errors'
import type { FileKeeper } from '../keeper'
import { FatWriter } from './put-file'

/** Files in the root directory of a FAT16 or FAT32 volume. */
export const fatFiles: FileKeeper = {
  // A length is kept in 32 bits (section 6 of the specification).
  mostFileBytes: 2 ** 32 - 1,
  async make(volume, name, content) {
    const writer = await FatWriter.open(volume)
    if (await writer.find(writer.root, name)) throw new CoreError(`${name} is on the volume already.`)
    await writer.makeFile(writer.root, name, content)
    await writer.done()
  },
  async settle(volume, from, to, bytes) {
    const writer = await FatWriter.open(volume)
    const entry = await fileOf(writer, from)
    const other = await writer.find(writer.root, to)
    if (other && other.rowAt !== entry.rowAt) throw new CoreError(`${to} is on the volume already.`)
    await writer.settle(writer.root, entry, to, bytes)
    await writer.done()
  },
  async remove(volume, name) {
    const writer = await FatWriter.open(volume)
    await writer.remove(writer.root, await fileOf(writer, name))
    await writer.done()
  },
}

async function fileOf(writer: FatWriter, name: string) {
  const found = await writer.find(writer.root, name)
  if (!found || found.isDirectory) throw new CoreError(`There is no file ${name} on the volume.`)
  return found
}
