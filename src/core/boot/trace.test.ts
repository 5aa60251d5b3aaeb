import { describe, expect, it } from 'vitest'
import { type MemoryDevice } from '../block/memory'
import { OverlayDevice } from '../block/overlay'
import { MIB } from '../bytes/size'
import { unfinishedMarker } from '../copy/marker'
import { surveyDrive } from '../survey/survey'
import { pattern } from '../testing'
import { FIRMWARE, makeBiosDisk, makeSystemDisk, sha256 } from '../testing-disk'
import { referenceFrom } from './reference'
import { traceStart } from './trace'
import type { Firmware, Trace } from './types'

const attached = (device: MemoryDevice | OverlayDevice, slot = 'SATA 0', driveId = 'new') => ({
  driveId,
  name: 'Corvina S5 960 GB',
  slot,
  device,
  drivers: ['storahci'],
})

async function setUp() {
  const device = await makeSystemDisk()
  const reference = referenceFrom(await surveyDrive(device, sha256))!
  return { device, reference }
}

function failedAt(trace: Trace) {
  expect(trace.starts).toBe(false)
  const index = trace.links.findIndex((l) => l.state === 'failed')
  expect(trace.links.slice(0, index).every((l) => l.state === 'passed')).toBe(true)
  expect(trace.links.slice(index + 1).every((l) => l.state === 'not-reached')).toBe(true)
  expect(trace.links[index].why).toBeTruthy()
  return trace.links[index].id
}

describe('the trace of a start', () => {
  it('passes every link of a sound drive and shows evidence for each', async () => {
    const { device, reference } = await setUp()
    const trace = await traceStart(FIRMWARE, [attached(device)], reference, sha256)
    expect(trace.links.map((l) => l.state)).toEqual(Array(8).fill('passed'))
    expect(trace.links.every((l) => l.evidence.length > 10)).toBe(true)
    expect([trace.starts, trace.startedFrom]).toEqual([true, 'new'])
  })

  it('takes the fallback path when no boot entry holds', async () => {
    const { device, reference } = await setUp()
    const forgetful: Firmware = { ...FIRMWARE, bootEntries: [], bootOrder: [] }
    const trace = await traceStart(forgetful, [attached(device)], reference, sha256)
    expect(trace.starts).toBe(true)
    expect(trace.links[0].evidence).toMatch(/fallback/)
    expect(trace.links[3].evidence).toMatch(/BOOTX64/)
  })

  it.each<[string, string, (device: OverlayDevice) => Promise<void>]>([
    ['firmware', 'an unfinished copy', (d) => d.write(0, unfinishedMarker(512, { note: 'x' }))],
    [
      'firmware',
      'both tables gone',
      async (d) => (await d.write(512, new Uint8Array(512)), d.write(d.size - 512, new Uint8Array(512))),
    ],
    ['boot-partition', 'an ESP without its file system', (d) => d.write(MIB, new Uint8Array(512))],
    ['system-volume', 'a system volume without its file system', (d) => d.write(117 * MIB, new Uint8Array(512))],
  ])('ends at %s with %s', async (link, _what, damage) => {
    const { device, reference } = await setUp()
    const overlay = new OverlayDevice(device)
    await damage(overlay)
    expect(failedAt(await traceStart(FIRMWARE, [attached(overlay)], reference, sha256))).toBe(link)
  })

  it('ends at the loader when its bytes are not those of the source', async () => {
    const { reference } = await setUp()
    const other = await makeSystemDisk({ loader: pattern(50_000, 99) })
    const trace = await traceStart(FIRMWARE, [attached(other)], reference, sha256)
    expect(failedAt(trace)).toBe('loader')
  })

  it('passes with one damaged table copy and says which was taken', async () => {
    const { device, reference } = await setUp()
    const overlay = new OverlayDevice(device)
    await overlay.write(512, new Uint8Array(512))
    const trace = await traceStart(FIRMWARE, [attached(overlay)], reference, sha256)
    expect(trace.starts).toBe(true)
    expect(trace.links[1].found).toBe('GPT, taken from the backup copy')
  })

  it('refuses two drives with one identity', async () => {
    const { device, reference } = await setUp()
    const trace = await traceStart(FIRMWARE, [attached(device), attached(device, 'SATA 1', 'old')], reference, sha256)
    expect(failedAt(trace)).toBe('firmware')
    expect(trace.links[0].found).toMatch(/one identity/)
  })

  it('names empty slots and a BIOS plainly', async () => {
    expect(failedAt(await traceStart(FIRMWARE, [], undefined, sha256))).toBe('firmware')
    const { device } = await setUp()
    const bios = await traceStart({ ...FIRMWARE, mode: 'bios' }, [attached(device)], undefined, sha256)
    expect(failedAt(bios)).toBe('table')
    expect(failedAt(await traceStart(FIRMWARE, [attached(await makeBiosDisk())], undefined, sha256))).toBe('firmware')
  })

  it('finds the system without a reference, by its files', async () => {
    const { device } = await setUp()
    const trace = await traceStart(FIRMWARE, [attached(device)], undefined, sha256)
    expect(trace.starts).toBe(true)
    expect(trace.links[5].found).toMatch(/^Harbour, NTFS/)
  })
})
