import { describe, expect, it } from 'vitest'
import { readBytes, writeBytes } from '../../block/device'
import { MemoryDevice } from '../../block/memory'
import { MIB } from '../../bytes/size'
import { viewOf } from '../../bytes/struct'
import { openFileSystem } from '..'
import { formatNtfs } from './format'
import { ATTRIBUTE_TYPES } from './layout'
import { encodeRuns, type Run } from './runs'
import { NtfsVolume } from './volume'

const CLUSTER = 4096
const UNIT = 16 * CLUSTER

/** A volume whose one file has its run list replaced, and its data attribute marked. */
async function volumeWith(size: number, runsOf: (lcn: number) => Run[], flags: number, unitShift: number) {
  const device = new MemoryDevice(12 * MIB)
  await formatNtfs(device, {
    label: '',
    serial: 1n,
    startSector: 0,
    time: 1n,
    files: [{ path: '/file.bin', unwrittenBytes: size, fragments: 3 }],
  })
  const volume = await NtfsVolume.open(device)
  const record = await volume.record(24)
  const data = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.data)!
  const lcn = data.placed!.runs[0].lcn!
  const at = volume.recordOffset(24) + data.at
  const attribute = (await readBytes(device, at, data.length)).slice()
  const runsAt = viewOf(attribute).getUint16(32, true)
  const runs = encodeRuns(runsOf(lcn))
  expect(runs.length).toBeLessThanOrEqual(data.length - runsAt)
  attribute.fill(0, runsAt)
  attribute.set(runs, runsAt)
  viewOf(attribute).setUint16(12, flags, true)
  attribute[34] = unitShift
  await writeBytes(device, at, attribute)
  return { device, lcn }
}

/** One block of 4 KiB that repeats a byte: a literal and one long copy. */
const repeated = (byte: number) => [0x03, 0xb0, 0x02, byte, 0xfc, 0x0f]

describe('an NTFS file', () => {
  it('that is compressed is unpacked unit by unit', async () => {
    const size = 2 * UNIT + 100
    const { device, lcn } = await volumeWith(
      size,
      // A packed unit of one cluster, a unit of zeros, and one that is as it is.
      (first) => [
        { lcn: first, length: 1 },
        { lcn: null, length: 31 },
        { lcn: first + 1, length: 1 },
      ],
      1,
      4,
    )
    const packed = Uint8Array.from([...repeated(0x41), ...repeated(0x42), 0, 0])
    await device.write(lcn * CLUSTER, Uint8Array.from([...packed, ...new Array(CLUSTER - packed.length).fill(0)]))
    const tail = Uint8Array.from([...repeated(0x43), 0, 0])
    await device.write((lcn + 1) * CLUSTER, Uint8Array.from([...tail, ...new Array(CLUSTER - tail.length).fill(0)]))
    const fileSystem = (await openFileSystem(device))!
    const whole = await fileSystem.readFile('/file.bin')
    expect(whole.length).toBe(size)
    const at = (offset: number) => String.fromCharCode(whole[offset])
    expect([at(0), at(4095), at(4096), at(8191), whole[8192], whole[UNIT], at(2 * UNIT), at(size - 1)]).toEqual([
      'A',
      'A',
      'B',
      'B',
      0,
      0,
      'C',
      'C',
    ])
    // Any part of it is the same as that part of the whole.
    expect(await fileSystem.readFile('/file.bin', 4000, 200)).toEqual(whole.slice(4000, 4200))
    expect(await fileSystem.readFile('/file.bin', 2 * UNIT - 50, 500)).toEqual(
      whole.slice(2 * UNIT - 50, 2 * UNIT + 100),
    )
  })

  it('with holes reads as zeros there', async () => {
    const { device, lcn } = await volumeWith(
      3 * CLUSTER,
      (first) => [
        { lcn: first, length: 1 },
        { lcn: null, length: 1 },
        { lcn: first + 1, length: 1 },
      ],
      0x8000,
      0,
    )
    await device.write(lcn * CLUSTER, new Uint8Array(2 * CLUSTER).fill(7))
    const bytes = await (await openFileSystem(device))!.readFile('/file.bin')
    expect([bytes[0], bytes[CLUSTER - 1], bytes[CLUSTER], bytes[2 * CLUSTER - 1], bytes[2 * CLUSTER]]).toEqual([
      7, 7, 0, 0, 7,
    ])
  })

  it('that the system encrypted is refused in a sentence', async () => {
    const { device } = await volumeWith(CLUSTER, (first) => [{ lcn: first, length: 1 }], 0x4000, 0)
    await expect((await openFileSystem(device))!.readFile('/file.bin')).rejects.toThrow(/encrypted by its system/)
  })
})
