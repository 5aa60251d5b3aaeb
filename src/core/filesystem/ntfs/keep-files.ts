import { CoreError } from '../../errors'
import type { FileKeeper } from '../keeper'
import { RECORDS } from './layout'
import { NtfsWriter } from './put-file'

/** Files in the root directory of an NTFS volume. */
export const ntfsFiles: FileKeeper = {
  async make(volume, name, content, time) {
    const writer = await NtfsWriter.open(volume, ticksOf(time))
    if (await writer.find(RECORDS.root, name)) throw new CoreError(`${name} is on the volume already.`)
    await writer.make(RECORDS.root, name, content)
    await writer.done()
  },
  async settle(volume, from, to, bytes, time) {
    const writer = await NtfsWriter.open(volume, ticksOf(time))
    const other = await writer.find(RECORDS.root, to)
    const { record } = await fileOf(writer, from)
    if (other && other.record !== record) throw new CoreError(`${to} is on the volume already.`)
    await writer.settle(RECORDS.root, record, to, bytes)
    await writer.done()
  },
  async remove(volume, name, time) {
    const writer = await NtfsWriter.open(volume, ticksOf(time))
    await writer.remove(RECORDS.root, (await fileOf(writer, name)).record)
    await writer.done()
  },
}

async function fileOf(writer: NtfsWriter, name: string) {
  const found = await writer.find(RECORDS.root, name)
  if (!found || found.isDirectory) throw new CoreError(`There is no file ${name} on the volume.`)
  return found
}

/** Milliseconds between 1601 and 1970. */
const SINCE_1601 = 11_644_473_600_000n

/** Steps of 100 ns since 1601. */
const ticksOf = (time: number) => (BigInt(Math.round(time)) + SINCE_1601) * 10_000n
