import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { OverlayDevice } from '../block/overlay'
import { SliceDevice } from '../block/slice'
import { MIB } from '../bytes/size'
import { unfinishedMarker } from '../survey/marker'
import { formatHfsPlus } from '../filesystem/hfsplus/format'
import { readScheme } from '../scheme'
import { writeGpt } from '../scheme/gpt'
import { TYPE_GUIDS } from '../scheme/types'
import { surveyDrive } from '../survey/survey'
import { pattern, runsOf } from '../testing'
import {
  BIOS_FIRMWARE,
  DISK_GUID,
  FIRMWARE,
  makeLinuxDisk,
  part,
  ROOT_UUID,
  SYSTEM_GUID,
  makeBiosDisk,
  makeSystemDisk,
  sha256,
  signedLoader,
} from '../testing-disk'
import { referenceFrom } from './reference'
import { readSignature } from './signature'
import { traceBoot } from './trace'
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
    const trace = await traceBoot(FIRMWARE, [attached(device)], reference, sha256)
    expect(trace.links.map((l) => l.state)).toEqual(Array(8).fill('passed'))
    expect(trace.links.every((l) => l.evidence.length > 10)).toBe(true)
    expect([trace.starts, trace.startedFrom]).toEqual([true, 'new'])
  })

  it('takes the fallback path when no boot entry holds', async () => {
    const { device, reference } = await setUp()
    const forgetful: Firmware = { ...FIRMWARE, bootEntries: [], bootOrder: [] }
    const trace = await traceBoot(forgetful, [attached(device)], reference, sha256)
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
    expect(failedAt(await traceBoot(FIRMWARE, [attached(overlay)], reference, sha256))).toBe(link)
  })

  it('ends at the settings when the store is gone, whichever path led to the loader', async () => {
    const { device } = await setUp()
    const { partitions } = (await readScheme(device))!
    const [esp] = partitions
    const changed = new OverlayDevice(device)
    const bytes = new Uint8Array((esp.lastLba - esp.firstLba + 1) * 512)
    await changed.read(esp.firstLba * 512, bytes)
    const at = Buffer.from(bytes).indexOf('BCD        ')
    expect(at).toBeGreaterThan(0)
    // As a deleted file is marked.
    const sector = bytes.slice(Math.floor(at / 512) * 512, Math.floor(at / 512) * 512 + 512)
    sector[at % 512] = 0xe5
    await changed.write(esp.firstLba * 512 + Math.floor(at / 512) * 512, sector)
    const forgetful: Firmware = { ...FIRMWARE, bootEntries: [], bootOrder: [] }
    for (const firmware of [FIRMWARE, forgetful]) {
      expect(failedAt(await traceBoot(firmware, [attached(changed)], undefined, sha256))).toBe('settings')
    }
  })

  it('goes on to the next entry, then to the fallback path, and fails at the loader where none of them is there', async () => {
    const { device } = await setUp()
    const [{ partitionGuid }] = FIRMWARE.bootEntries
    const broken = { id: '0007', name: 'Old', partitionGuid, path: '\\EFI\\Old\\gone.efi' }
    const several: Firmware = {
      ...FIRMWARE,
      bootEntries: [broken, ...FIRMWARE.bootEntries],
      bootOrder: ['0009', '0007', ...FIRMWARE.bootOrder],
    }
    const { starts, links } = await traceBoot(several, [attached(device)], undefined, sha256)
    expect(starts).toBe(true)
    expect(links[0].evidence).toMatch(/0009 .*; 0007: .*gone\.efi; boot entry/)
    const bare = await makeSystemDisk({ fallback: false })
    const only: Firmware = { ...FIRMWARE, bootEntries: [broken], bootOrder: ['0007'] }
    const trace = await traceBoot(only, [attached(bare)], undefined, sha256)
    expect(failedAt(trace)).toBe('loader')
    expect(trace.links[3].evidence).toMatch(/gone\.efi; .*BOOTX64/)
  })

  it('does not condemn a BIOS disk whose loader lies behind the first sector and asks for no active partition', async () => {
    const device = new OverlayDevice(await makeBiosDisk())
    const sector = new Uint8Array(512)
    await device.read(0, sector)
    sector.fill(0x90, 0, 440)
    for (const record of [446, 462, 478, 494]) sector[record] = 0
    await device.write(0, sector)
    await device.write(512, pattern(30 * 512, 8))
    const trace = await traceBoot(BIOS_FIRMWARE(), [attached(device)], undefined, sha256)
    expect(trace.starts).toBe(true)
    expect(trace.links.filter((l) => l.state === 'failed')).toEqual([])
    expect(trace.links.some((l) => l.state === 'unproved')).toBe(true)
  })

  it('ends at the loader when its bytes are not those of the source', async () => {
    const { reference } = await setUp()
    const other = await makeSystemDisk({ loader: pattern(50_000, 99) })
    const trace = await traceBoot(FIRMWARE, [attached(other)], reference, sha256)
    expect(failedAt(trace)).toBe('loader')
  })

  it('passes with one damaged table copy and says which was taken', async () => {
    const { device, reference } = await setUp()
    const overlay = new OverlayDevice(device)
    await overlay.write(512, new Uint8Array(512))
    const trace = await traceBoot(FIRMWARE, [attached(overlay)], reference, sha256)
    expect(trace.starts).toBe(true)
    expect(trace.links[1].found).toBe('GPT, taken from the backup copy')
  })

  it('refuses two drives with one identity', async () => {
    const { device, reference } = await setUp()
    const trace = await traceBoot(FIRMWARE, [attached(device), attached(device, 'SATA 1', 'old')], reference, sha256)
    expect(failedAt(trace)).toBe('firmware')
    expect(trace.links[0].found).toMatch(/one identity/)
  })

  it('names empty slots and a BIOS plainly', async () => {
    expect(failedAt(await traceBoot(FIRMWARE, [], undefined, sha256))).toBe('firmware')
    const { device } = await setUp()
    const bios = await traceBoot({ ...FIRMWARE, mode: 'bios' }, [attached(device)], undefined, sha256)
    expect(failedAt(bios)).toBe('table')
    expect(failedAt(await traceBoot(FIRMWARE, [attached(await makeBiosDisk())], undefined, sha256))).toBe('firmware')
  })

  it('finds the system without a reference, by its files', async () => {
    const { device } = await setUp()
    const trace = await traceBoot(FIRMWARE, [attached(device)], undefined, sha256)
    expect(trace.starts).toBe(true)
    expect(trace.links[5].found).toMatch(/^Harbour, NTFS/)
  })

  it.each<[string, Uint8Array, RegExp]>([
    ['without a signature', signedLoader(1, ''), /not signed/],
    ['of a signer that it does not trust', signedLoader(1, 'Somebody else'), /not trusted/],
    ['that was changed after it was signed', spoilt(), /does not hold/],
    ['that is no program at all', pattern(50_000, 1), /not signed/],
  ])('has Secure Boot refuse a loader %s', async (_what, loader, found) => {
    const device = await makeSystemDisk({ loader })
    const trace = await traceBoot(FIRMWARE, [attached(device)], undefined, sha256)
    expect(failedAt(trace)).toBe('loader')
    expect(trace.links[3].found).toMatch(found)
    const off = await traceBoot({ ...FIRMWARE, secureBoot: false }, [attached(device)], undefined, sha256)
    expect(off.starts).toBe(true)
    const signer = ['Somebody else']
    const trusting = await traceBoot({ ...FIRMWARE, trustedSigners: signer }, [attached(device)], undefined, sha256)
    expect(trusting.starts).toBe(/not trusted/.test(trace.links[3].found))
  })

  it('never trips over damaged signatures', () => {
    const loader = signedLoader(3)
    fc.assert(
      fc.property(
        fc.array(fc.tuple(fc.nat(loader.length - 1), fc.nat(255)), { minLength: 1, maxLength: 12 }),
        fc.nat(loader.length),
        (changes, length) => {
          const bytes = loader.slice(0, length)
          for (const [at, value] of changes) if (at < length) bytes[at] = value
          const { state } = readSignature(bytes, sha256)
          if (state === 'held') expect(bytes.slice(0x200, 0x200 + 50_000)).toEqual(loader.slice(0x200, 0x200 + 50_000))
        },
      ),
      { numRuns: runsOf(100, 3000) },
    )
  })

  it('looks at the slots of a BIOS in the order of its settings', async () => {
    const drives = [
      attached(await makeSystemDisk(), 'SATA 0', 'other'),
      attached(await makeBiosDisk(), 'SATA 1', 'new'),
    ]
    expect(failedAt(await traceBoot(BIOS_FIRMWARE(), drives, undefined, sha256))).toBe('table')
    const ordered: Firmware = { ...BIOS_FIRMWARE(), driveOrder: ['SATA 1'] }
    const trace = await traceBoot(ordered, drives, undefined, sha256)
    expect([trace.starts, trace.startedFrom]).toEqual([true, 'new'])
  })

  it('takes the second ESP when only that has a loader', async () => {
    const device = await makeSystemDisk()
    const reading = (await readScheme(device))!
    if (reading.scheme !== 'gpt') throw new Error('No GPT.')
    const { table } = reading.gpt
    // The reserved partition becomes an ESP with nothing in it, in front of the one with the loader.
    const [esp, reserved, ...rest] = table.partitions
    const empty = { ...reserved, typeGuid: TYPE_GUIDS.efiSystem }
    await writeGpt(device, { ...table, partitions: [{ ...empty, number: 1 }, { ...esp, number: 2 }, ...rest] })
    const forgetful: Firmware = { ...FIRMWARE, bootEntries: [], bootOrder: [] }
    const trace = await traceBoot(forgetful, [attached(device)], undefined, sha256)
    expect([trace.starts, trace.links[2].evidence]).toEqual([true, expect.stringContaining('partition 2')])
  })
})

/** A loader whose code is no longer the one that was signed. */
function spoilt(): Uint8Array {
  const loader = signedLoader(1)
  loader[0x300] ^= 1
  return loader
}

describe('the trace of a system that is not followed to its end', () => {
  const bare: Firmware = { ...FIRMWARE, secureBoot: false, bootEntries: [], bootOrder: [] }

  it('says of a Linux root that no volume answers to its UUID', async () => {
    const device = await makeLinuxDisk()
    const trace = await traceBoot(bare, [attached(device)], undefined, sha256)
    expect(failedAt(trace)).toBe('system-volume')
    expect(trace.links[4].evidence).toBe(`/EFI/BOOT/grub.cfg: search.fs_uuid ${ROOT_UUID} root`)
    expect(trace.links[5].evidence).toContain(ROOT_UUID)
  })

  it('goes on with an HFS+ volume whose header names its loader, and says what that rests on', async () => {
    const device = new MemoryDevice(120 * MIB)
    const partitions = [part(1, TYPE_GUIDS.appleHfs, SYSTEM_GUID, '', 2048, 100 * 2048)]
    await writeGpt(device, { diskGuid: DISK_GUID, entryCount: 128, entrySize: 128, partitions })
    const volume = { label: 'Montage', volumeId: 7n, time: 3_855_369_600 }
    const files = [{ path: '/System/Library/CoreServices/boot.efi', content: pattern(9000, 1) }]
    const slice = new SliceDevice(device, MIB, 100 * MIB)
    await formatHfsPlus(slice, { ...volume, systemFolder: '/System/Library/CoreServices', files })
    const trace = await traceBoot(bare, [attached(device)], undefined, sha256)
    expect(trace.links.map((l) => l.state)).toEqual([
      'unproved',
      'passed',
      'passed',
      'passed',
      ...Array<string>(4).fill('unproved'),
    ])
    expect(trace.links[3].evidence).toContain('/System/Library/CoreServices/boot.efi')
    await formatHfsPlus(slice, { ...volume, files })
    expect((await traceBoot(bare, [attached(device)], undefined, sha256)).starts).toBe(false)
  })
})
