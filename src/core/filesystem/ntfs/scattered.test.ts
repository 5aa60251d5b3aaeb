import { beforeAll, describe, expect, it } from 'vitest'
import { readBytes, writeBytes } from '../../block/device'
import { MemoryDevice } from '../../block/memory'
import { MIB } from '../../bytes/size'
import { sameBytes } from '../../testing'
import { openFileSystem } from '..'
import { ntfs } from '.'
import { setBits } from '../bitmap'
import { formatNtfs } from './format'
import { ATTRIBUTE_TYPES, NON_RESIDENT, RECORDS } from './layout'
import { rawAttribute, withAttributes, withRuns } from './records'
import type { Run } from './runs'
import { content, expectConsistent, expectFiles, type Written } from './testing'
import { NtfsVolume } from './volume'

// Volumes of a kind that only long use makes: packed files, files with holes, a file table in pieces.

const CLUSTER = 4096
const UNIT = 16 * CLUSTER
const FILES: readonly Written[] = Array.from({ length: 400 }, (_, i) => ({
  path: `/Sound/take ${i}.wav`,
  content: content(5000 + i * 37, i),
  fragments: 1 + (i % 3),
  gap: i % 4,
}))
const PACKED = '/packed.bin'
const HOLES = '/holes.bin'

let source: MemoryDevice
let whole: Map<string, Uint8Array>

beforeAll(async () => {
  source = new MemoryDevice(96 * MIB)
  await formatNtfs(source, {
    label: 'Worn',
    serial: 5n,
    startSector: 0,
    time: 1n,
    files: [
      ...FILES,
      // Both lie behind any end that the tests ask for.
      { path: PACKED, unwrittenBytes: 3 * UNIT, gap: 8000 },
      { path: HOLES, unwrittenBytes: 64 * CLUSTER, fragments: 8 },
    ],
  })
  await pack()
  await pierce()
  await scatterTable()
  const volume = (await openFileSystem(source))!
  whole = new Map()
  for (const path of [PACKED, HOLES]) whole.set(path, await volume.readFile(path))
  expect(whole.get(PACKED)![UNIT - 1]).toBe(0)
  expect(whole.get(PACKED)![0]).toBe(0x41)
  expect(new Set(whole.get(HOLES)!).size).toBeGreaterThan(2)
})

async function recordOf(path: string): Promise<number> {
  const volume = await NtfsVolume.open(source)
  for await (const record of volume.usedRecords()) {
    const name = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.fileName)?.value
    if (name && Buffer.from(name.subarray(66)).toString('utf16le') === path.slice(1)) return record.number
  }
  throw new Error(`There is no ${path}.`)
}

/** Gives the data of a record other runs and marks; clusters it no longer has become free. */
async function remake(number: number, flags: number, unitShift: number, runsOf: (old: readonly Run[]) => Run[]) {
  const volume = await NtfsVolume.open(source)
  const record = await volume.record(number)
  const old = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.data && a.name === '')!
  const runs = runsOf(old.placed!.runs)
  const raw = withRuns(rawAttribute(record, old), runs)
  raw[12] = flags & 0xff
  raw[13] = flags >> 8
  NON_RESIDENT.write(raw, { compressionUnit: unitShift })
  const attributes = record.attributes.map((a) => (a === old ? raw : rawAttribute(record, a)))
  const at = volume.recordOffset(number)
  await changeBitmap((bits) => {
    for (const [list, set] of [[old.placed!.runs, false] as const, [runs, true] as const]) {
      for (const { lcn, length } of list) if (lcn !== null) setBits(bits, lcn, length, set)
    }
  })
  await writeBytes(source, at, withAttributes(record, attributes)!)
  return { old: old.placed!.runs, runs }
}

async function changeBitmap(change: (bits: Uint8Array) => void): Promise<void> {
  const volume = await NtfsVolume.open(source)
  const stream = (await volume.stream(await volume.record(RECORDS.bitmap), ATTRIBUTE_TYPES.data))!
  const bits = await stream.read(0, stream.size)
  change(bits)
  await writeBytes(source, stream.runs[0].lcn! * CLUSTER, bits)
}

/** A block of 4 KiB that repeats a byte: a literal and one long copy. */
const repeated = (byte: number) => [0x03, 0xb0, 0x02, byte, 0xfc, 0x0f]

/** Three units: packed into a cluster, zeros, packed again. */
async function pack(): Promise<void> {
  const { runs } = await remake(await recordOf(PACKED), 1, 4, ([{ lcn }]) => [
    { lcn, length: 1 },
    { lcn: null, length: 31 },
    { lcn: lcn! + 1, length: 1 },
    { lcn: null, length: 15 },
  ])
  for (const [i, { lcn }] of [runs[0], runs[2]].entries()) {
    const bytes = new Uint8Array(CLUSTER)
    bytes.set([...repeated(0x41 + i), ...repeated(0x42 + i), 0, 0])
    await source.write(lcn! * CLUSTER, bytes)
  }
}

/** Every other run of the file becomes a hole, the others tell their places. */
async function pierce(): Promise<void> {
  const { runs } = await remake(await recordOf(HOLES), 0x8000, 0, (old) =>
    old.map((run, i) => (i % 2 === 0 ? run : { lcn: null, length: run.length })),
  )
  for (const { lcn, length } of runs) {
    if (lcn !== null) await source.write(lcn * CLUSTER, content(length * CLUSTER, lcn).fill(lcn & 0xff, 100, 200))
  }
}

/** The second half of the file table moves to the end of the volume, in three pieces. */
async function scatterTable(): Promise<void> {
  const { old, runs } = await remake(RECORDS.mft, 0, 0, ([{ lcn, length }]) => {
    const half = Math.floor(length / 2)
    const third = Math.floor((length - half) / 3)
    const last = length - half - 2 * third
    const end = 96 * 256 - 400
    return [
      { lcn, length: half },
      { lcn: end + 200, length: third },
      { lcn: end, length: third },
      { lcn: end + 300, length: last },
    ]
  })
  let from = old[0].lcn!
  for (const { lcn, length } of runs) {
    const bytes = (await readBytes(source, from * CLUSTER, length * CLUSTER)).slice()
    if (lcn !== from) {
      await source.write(from * CLUSTER, new Uint8Array(length * CLUSTER).fill(0xee))
      await source.write(lcn! * CLUSTER, bytes)
    }
    from += length
  }
  const volume = await NtfsVolume.open(source)
  const { mftLcn, mftMirrorLcn, recordSize } = volume.geometry
  await writeBytes(source, mftMirrorLcn * CLUSTER, await readBytes(source, mftLcn * CLUSTER, 4 * recordSize))
}

describe('a worn NTFS volume', () => {
  it('is sound before anything is done to it', async () => {
    await expectConsistent(source)
    await expectFiles(source, FILES)
    expect((await NtfsVolume.open(source)).tableRuns).toHaveLength(4)
  })

  it.each([90, 50, 24, 18])('made %i MiB keeps packed files, holes and all others', async (mib) => {
    const device = await ntfs.resize!(source, mib * MIB)
    await expectConsistent(device)
    await expectFiles(device, FILES)
    const volume = (await openFileSystem(device))!
    for (const [path, bytes] of whole) expect(sameBytes(await volume.readFile(path), bytes), path).toBe(true)
  })

  it('made larger keeps them too', async () => {
    const device = await ntfs.resize!(source, 300 * MIB)
    await expectConsistent(device)
    await expectFiles(device, FILES)
  })
})
