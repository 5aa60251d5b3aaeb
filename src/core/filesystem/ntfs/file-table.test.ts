import { beforeAll, describe, expect, it } from 'vitest'
import { readBytes } from '../../block/device'
import { MemoryDevice } from '../../block/memory'
import { alignUp, MIB } from '../../bytes/size'
import { ntfs } from '.'
import { openFileSystem } from '..'
import { setBits } from '../bitmap'
import { FileTableWriter } from './file-table-writer'
import { formatNtfs } from './format'
import { ATTRIBUTE_TYPES, RECORDS } from './layout'
import { putNtfsFile } from './put-file'
import { rawAttribute, withAttributes, withRuns } from './records'
import { clustersOf, type Run, writeRuns } from './runs'
import { content, expectConsistent, expectFiles, type Written } from './testing'
import { NtfsVolume } from './volume'

// A file table at the far end of a volume whose free space lies in single clusters: made smaller, the table's own run
// list outgrows its record.

const CLUSTER = 4096
const SIZE = 64 * MIB
const FILES: readonly Written[] = Array.from({ length: 2600 }, (_, i) => ({
  path: `/Cards/${i}.dat`,
  content: content(CLUSTER, i),
  gap: 1,
}))
/** Looking up a name reads its whole directory, so some of them stand for all. */
const SOME = FILES.filter((_, i) => i % 40 === 0)
let source: MemoryDevice

/** Puts what of the file table lies behind its first clusters to the end of the volume. */
async function moveTableToEnd(device: MemoryDevice): Promise<void> {
  const volume = await NtfsVolume.open(device)
  const record = await volume.record(RECORDS.mft)
  const data = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.data && a.name === '')!
  const [{ lcn, length }] = data.placed!.runs as [{ lcn: number; length: number }]
  const kept = 40
  const end = volume.geometry.totalClusters - (length - kept) - 4
  const runs: Run[] = [
    { lcn, length: kept },
    { lcn: end, length: length - kept },
  ]
  const tail = (await readBytes(device, (lcn + kept) * CLUSTER, (length - kept) * CLUSTER)).slice()
  await writeRuns(device, runs, CLUSTER, tail, kept * CLUSTER)
  const map = (await volume.stream(await volume.record(RECORDS.bitmap), ATTRIBUTE_TYPES.data))!
  const bits = await map.read(0, map.size)
  setBits(bits, lcn + kept, length - kept, false)
  setBits(bits, end, length - kept)
  const padded = new Uint8Array(alignUp(bits.length, CLUSTER))
  padded.set(bits)
  await writeRuns(device, map.runs, CLUSTER, padded)
  const attributes = record.attributes.map((a) =>
    a === data ? withRuns(rawAttribute(record, a), runs) : rawAttribute(record, a),
  )
  await (await FileTableWriter.of(volume)).write(RECORDS.mft, withAttributes(record, attributes)!)
}

beforeAll(async () => {
  source = new MemoryDevice(SIZE)
  await formatNtfs(source, { label: 'Cards', serial: 3n, startSector: 0, time: 1n, files: FILES })
  await moveTableToEnd(source)
})

/** The volume at the least size to which it goes. */
async function smallest(device: MemoryDevice): Promise<{ size: number; made: Awaited<ReturnType<typeof resized>> }> {
  const volume = (await openFileSystem(device))!
  let used = 0
  for await (const { length } of volume.usedExtents()) used += length
  const size = Math.ceil(volume.shrunk!(used).bytes / CLUSTER) * CLUSTER
  return { size, made: await resized(device, size) }
}

const resized = (device: MemoryDevice, size: number) => ntfs.resize!(device, size)

describe('a file table in more pieces than its record can name', () => {
  it('is sound before', async () => {
    await expectConsistent(source)
    await expectFiles(source, SOME)
  })

  it('goes on in records that its beginning reaches, and every file is there', async () => {
    const { made } = await smallest(source)
    await expectConsistent(made)
    await expectFiles(made, SOME)
    const volume = await NtfsVolume.open(made)
    const table = await volume.record(RECORDS.mft)
    expect(table.attributes.some((a) => a.type === ATTRIBUTE_TYPES.attributeList)).toBe(true)
    expect(volume.tableRuns.length).toBeGreaterThan(150)
    const data = (await volume.attributes(table)).filter((a) => a.type === ATTRIBUTE_TYPES.data)
    expect(data.reduce((sum, part) => sum + clustersOf(part.placed!.runs), 0)).toBe(clustersOf(volume.tableRuns))
  })

  it('can be made larger again, smaller again, and be written to', async () => {
    const { size, made } = await smallest(source)
    const copy = new MemoryDevice(SIZE * 2)
    for (let at = 0; at < made.size; at += MIB) {
      const bytes = await readBytes(made, at, Math.min(MIB, made.size - at))
      if (bytes.some((byte) => byte !== 0)) await copy.write(at, bytes.slice())
    }
    await expectConsistent(copy)
    const larger = await ntfs.resize!(copy, SIZE * 2)
    await expectConsistent(larger)
    await expectFiles(larger, SOME)
    const again = await ntfs.resize!(larger, size + 4 * MIB)
    await expectConsistent(again)
    await expectFiles(again, SOME)
    const more: Written = { path: '/Cards/one more.dat', content: content(3000, 9999) }
    await putNtfsFile(again, more.path, more.content, 5n).catch((error: Error) => {
      // Its directory may lie in too many pieces for that; then nothing was written.
      expect(error.message).toMatch(/too many pieces/)
    })
    await expectConsistent(again)
  })
})
