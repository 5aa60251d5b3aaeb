import { describe, expect, it } from 'vitest'
import { type BlockDevice, readBytes } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { SliceDevice } from '../block/slice'
import { referenceFrom } from '../boot/reference'
import { readBootCode } from '../survey/boot-code'
import { traceBoot } from '../boot/trace'
import type { Firmware, Trace } from '../boot/types'
import { deviceBytes, ELEMENTS, elementPath, LETTER_C, letterBytes, makeStore, STORE_OBJECTS } from '../boot/store'
import { viewOf } from '../bytes/struct'
import { formatNtfs } from '../filesystem/ntfs/format'
import { expectConsistent } from '../filesystem/ntfs/testing'
import type { DriverFolder } from '../drivers/packages'
import { HiveEditor } from '../registry/edit'
import { BIOS_FIRMWARE, DISK_GUID, FIRMWARE, makeBiosDisk, makeSystemDisk, sha256, storedDigest } from '../testing-disk'
import { pattern } from '../testing'
import { applyRepair, recordText, type RepairRecord, RepairRecordSchema, settleRepair, undoRepair } from './apply'
import { planRepair } from '.'
import { followMoves } from './moved'
import { surveyDrive } from '../survey/survey'
import { hiveIn, storePathOf, SYSTEM_HIVE_PATH } from './places'
import { openFileSystem } from '../filesystem'
import { readScheme } from '../scheme'
import { sliceOf } from '../boot/start'
import { BROKEN_DISKS, ENTRY, NOWHERE, poke, set, spoil } from './testing'

const MIB = 1024 * 1024
function follow(device: BlockDevice, firmware: Firmware, drivers = ['storahci']): Promise<Trace> {
  const drive = { driveId: 'new', name: 'Tellina T1 256 GB', slot: 'SATA 0', device, drivers }
  return traceBoot(firmware, [drive], undefined, sha256)
}

/** Keeps what a repair keeps, in memory. */
function memoryJournal() {
  const kept: string[] = []
  return {
    kept,
    record: (): RepairRecord => RepairRecordSchema.parse(JSON.parse(kept.at(-1)!)),
    keep: async (text: string) => void kept.push(text),
  }
}

const REMOVED = { bootEntries: [], bootOrder: [] }
const withoutFallback = () => makeSystemDisk({ fallback: false })

describe('a repair of how the firmware starts', () => {
  it('puts the loader where firmware looks last, on a volume that stays sound', async () => {
    const device = await withoutFallback()
    const bare: Firmware = { ...FIRMWARE, ...REMOVED }
    const failed = (await follow(device, bare)).links.find((l) => l.state === 'failed')!
    expect([failed.id, failed.repairs]).toEqual(['loader', ['boot-entry', 'fallback-loader', 'new-store']])
    const before = await storedDigest(device)
    const journal = memoryJournal()
    const plan = await planRepair('fallback-loader', { device, mode: 'uefi', time: 1n })
    await applyRepair(device, plan, journal)
    const trace = await follow(device, bare)
    expect([trace.starts, trace.links[3].evidence]).toEqual([true, expect.stringContaining('BOOTX64.EFI')])
    expect((await planRepair('fallback-loader', { device, mode: 'uefi', time: 1n })).patches).toEqual([])
    await undoRepair(device, journal.record(), journal)
    expect(await storedDigest(device)).toEqual(before)
  })

  it.each<[string, Partial<Firmware>]>([
    ['that is gone', REMOVED],
    ['that names another drive', { bootEntries: [{ ...FIRMWARE.bootEntries[0], partitionGuid: DISK_GUID }] }],
    ['that an order of nothing but gaps does not reach', { bootOrder: ['0009', '0009', '0003', '0009'] }],
  ])('sets an entry %s', async (_what, changes) => {
    const device = await withoutFallback()
    const firmware: Firmware = { ...FIRMWARE, ...changes }
    const plan = await planRepair('boot-entry', { device, mode: 'uefi', firmware, time: 1n })
    expect(plan.patches).toEqual([])
    expect(plan.changes).toHaveLength(1)
    const trace = await follow(device, plan.firmware!)
    expect([trace.starts, trace.links[0].evidence]).toEqual([true, expect.stringContaining('Boot entry')])
    expect(plan.firmware!.bootOrder.every((id) => plan.firmware!.bootEntries.some((e) => e.id === id))).toBe(true)
    const again = await planRepair('boot-entry', { device, mode: 'uefi', firmware: plan.firmware, time: 1n })
    expect(again.firmware).toBeUndefined()
  })

  it('leaves the entry of another drive that is here, and tells the two apart', async () => {
    const device = await withoutFallback()
    const [old] = FIRMWARE.bootEntries
    const firmware: Firmware = { ...FIRMWARE, bootEntries: [{ ...old, partitionGuid: DISK_GUID }], bootOrder: [old.id] }
    const seat = { slot: 'SATA 1', name: 'Tellina T1 256 GB', beside: [DISK_GUID] }
    const plan = await planRepair('boot-entry', { device, mode: 'uefi', firmware, seat, time: 1n })
    const { bootEntries, bootOrder } = plan.firmware!
    expect(bootEntries.find((e) => e.id === old.id)).toEqual({ ...old, partitionGuid: DISK_GUID })
    const [first, second] = bootOrder.map((id) => bootEntries.find((e) => e.id === id)!)
    expect([first.name, second.id]).toEqual([`${old.name}, Tellina T1 256 GB`, old.id])
  })

  it('has a BIOS look at the drive’s slot first', async () => {
    const device = await makeBiosDisk()
    const seat = { slot: 'SATA 1', name: 'Tellina T1 256 GB', beside: [] }
    const firmware = { ...BIOS_FIRMWARE(), driveOrder: ['SATA 0', 'SATA 1'] }
    const plan = await planRepair('boot-entry', { device, mode: 'bios', firmware, seat, time: 1n })
    expect([plan.patches, plan.firmware!.driveOrder]).toEqual([[], ['SATA 1', 'SATA 0']])
    const again = await planRepair('boot-entry', { device, mode: 'bios', firmware: plan.firmware, seat, time: 1n })
    expect(again.firmware).toBeUndefined()
  })

  it('says that boot entries are not on the drive', async () => {
    const device = await makeSystemDisk()
    await expect(planRepair('boot-entry', { device, mode: 'uefi', time: 1n })).rejects.toThrow(/not on the drive/)
    await expect(planRepair('boot-entry', { device, mode: 'bios', time: 1n })).rejects.toThrow(/no boot entries/)
    await expect(planRepair('fallback-loader', { device, mode: 'bios', time: 1n })).rejects.toThrow(/no loader file/)
  })
})

describe('a repair of what the drive is known by', () => {
  const chance = Uint8Array.from({ length: 16 }, (_, i) => i * 13 + 5)

  it.each<[string, Firmware, () => Promise<MemoryDevice>]>([
    ['a GPT', FIRMWARE, makeSystemDisk],
    ['an MBR', BIOS_FIRMWARE(), () => makeBiosDisk()],
  ])('gives %s an identity of its own, and all that refers to it follows', async (_what, firmware, make) => {
    const old = await make()
    const device = await make()
    const drive = (driveId: string, d: BlockDevice) => ({
      driveId,
      name: driveId,
      slot: driveId,
      device: d,
      drivers: ['storahci'],
    })
    const both = () => traceBoot(firmware, [drive('new', device), drive('old', old)], undefined, sha256)
    const clash = (await both()).links.find((l) => l.state === 'failed')!
    expect([clash.id, clash.repairs]).toEqual(['firmware', ['disk-identity']])
    const before = await storedDigest(device)
    const journal = memoryJournal()
    const plan = await planRepair('disk-identity', { device, mode: firmware.mode, chance, time: 1n })
    expect(plan.changes.length).toBeGreaterThan(1)
    await applyRepair(device, plan, journal)
    const trace = await both()
    expect([trace.starts, trace.startedFrom]).toEqual([true, 'new'])
    expect((await readScheme(device))?.findings).toEqual([])
    await undoRepair(device, journal.record(), journal)
    expect(await storedDigest(device)).toEqual(before)
  })

  it('is refused without chance', async () => {
    const question = { device: await makeSystemDisk(), mode: 'uefi' as const, time: 1n }
    await expect(planRepair('disk-identity', question)).rejects.toThrow(/No new identity/)
  })
})

describe('a repair with what the old drive had', () => {
  it.each<[string, (device: MemoryDevice) => Promise<void>]>([
    ['that is gone', poke(0, Array(440).fill(0))],
    ['that is another', poke(8, [0xeb, 0xfe])],
    ['whose part behind the first sector is gone', (d) => d.write(5 * 512, new Uint8Array(512))],
  ])('puts back start-up code %s', async (_what, damage) => {
    const old = await makeBiosDisk()
    const device = await makeBiosDisk()
    for (const d of [old, device]) await d.write(5 * 512, new Uint8Array(512).fill(0x90))
    const reference = referenceFrom(await surveyDrive(old, sha256))!
    const start = () => {
      const drive = { driveId: 'new', name: 'new', slot: 'SATA 0', device, drivers: ['storahci'] }
      return traceBoot(BIOS_FIRMWARE(), [drive], reference, sha256)
    }
    expect((await start()).links[2].found).toBe('same bytes as the source')
    await damage(device)
    const failed = (await start()).links.find((l) => l.state === 'failed')!
    expect([failed.id, failed.repairs]).toEqual(['boot-code', ['start-code']])
    const startCode = await readBootCode(old, (await readScheme(old))!.partitions)
    await applyRepair(
      device,
      await planRepair('start-code', { device, mode: 'bios', startCode, time: 1n }),
      memoryJournal(),
    )
    expect((await start()).starts).toBe(true)
    expect(await storedDigest(device)).toEqual(await storedDigest(old))
  })

  it('is refused where that is not at hand', async () => {
    const question = { device: await makeBiosDisk(), mode: 'bios' as const, time: 1n }
    await expect(planRepair('start-code', question)).rejects.toThrow(/not at hand/)
  })
})

describe('names that a system keeps of volumes that moved', () => {
  const SIGNATURE = '5a3c91e4'
  const at = (offset: number) => ({ scheme: 'mbr', signature: SIGNATURE, offset }) as const
  /** Each volume took the place that the next one had. */
  const moved = [1, 2, 3].map((n) => ({ from: at(n * 100 * MIB), to: at((n + 1) * 100 * MIB) }))
  const here = (device: { offset?: number }) => moved.some((m) => m.to.offset === device.offset)

  it('are followed together, so that an old place is not taken for the new one of another volume', () => {
    const old = moved.map((m) => m.from)
    const first = followMoves(old, moved, here as never)
    expect(old.map((d) => first(d))).toEqual(moved.map((m) => m.to))
    const now = moved.map((m) => m.to)
    const second = followMoves(now, moved, here as never)
    expect(now.map((d) => second(d))).toEqual([undefined, undefined, undefined])
  })

  it('are pointed at them as letters, and only letters of absent drives are let go', async () => {
    const device = await makeSystemDisk()
    const [, , system, recovery] = (await readScheme(device))!.partitions
    const gpt = (partitionGuid: string, diskGuid = DISK_GUID) => ({ scheme: 'gpt', diskGuid, partitionGuid }) as const
    const oldGuid = '00000000-0000-4000-8000-0000000000d1'
    const mountName = (last: string) => `\\??\\Volume{00000000-0000-4000-8000-00000000000${last}}`
    await spoil(device, 'uefi', SYSTEM_HIVE_PATH, async (bytes) => {
      const one = await set('MountedDevices', '\\DosDevices\\D:', letterBytes(gpt(oldGuid)))(bytes)
      const two = await set('MountedDevices', '\\DosDevices\\E:', letterBytes(gpt(NOWHERE.diskGuid)))(one)
      const three = await set('MountedDevices', mountName('1'), letterBytes(gpt(oldGuid)))(two)
      const four = await set('MountedDevices', mountName('2'), letterBytes(gpt(NOWHERE.diskGuid)))(three)
      return set('MountedDevices', LETTER_C, letterBytes(gpt(oldGuid.replace('d1', 'c1'))))(four)
    })
    const question = {
      device,
      mode: 'uefi' as const,
      time: 3n,
      moved: [
        { from: gpt(oldGuid), to: gpt(recovery.guid) },
        { from: gpt(oldGuid.replace('d1', 'c1')), to: gpt(system.guid) },
      ],
    }
    const plan = await planRepair('old-letters', question)
    expect(plan.changes).toEqual([
      expect.stringContaining('D:, 1 name of a mount point name their volumes'),
      expect.stringContaining('lets go of E:'),
    ])
    // The letter of the system volume brings the others along.
    await applyRepair(device, await planRepair('drive-letters', question), memoryJournal())
    expect((await planRepair('old-letters', question)).changes).toEqual([expect.stringContaining('lets go of E:')])
    const volume = (await openFileSystem(sliceOf(device, system)))!
    const hive = await hiveIn(await volume.readFile(SYSTEM_HIVE_PATH))
    const mounted = (await hive.key('MountedDevices'))!
    for (const name of ['\\DosDevices\\D:', mountName('1')])
      expect((await hive.find(mounted, name))?.data).toEqual(letterBytes(gpt(recovery.guid)))
    expect(await hive.find(mounted, mountName('2'))).toBeDefined()
  })

  it('are pointed at them in every entry of the boot settings, also inside the description of a file', async () => {
    const device = await makeSystemDisk()
    const { partitions } = (await readScheme(device))!
    const recovery = { scheme: 'gpt', diskGuid: DISK_GUID, partitionGuid: partitions[3].guid } as const
    const old = { ...recovery, partitionGuid: '00000000-0000-4000-8000-0000000000d1' }
    // As the entry for recovery has it: a file on a partition, whose description holds that of the partition.
    const nested = new Uint8Array(200)
    nested.set(deviceBytes(old), 60)
    viewOf(nested).setUint32(16, 4, true)
    await spoil(
      device,
      'uefi',
      '/EFI/Microsoft/Boot/BCD',
      set(elementPath(STORE_OBJECTS.manager, ELEMENTS.device), 'Element', nested),
    )
    const question = { device, mode: 'uefi' as const, time: 3n, moved: [{ from: old, to: recovery }] }
    const plan = await planRepair('point-store', question)
    expect(plan.changes).toHaveLength(1)
    await applyRepair(device, plan, memoryJournal())
    expect((await planRepair('point-store', question)).patches).toEqual([])
    // Without knowing what moved, what will not work is said.
    const other = await makeSystemDisk()
    await spoil(other, 'uefi', '/EFI/Microsoft/Boot/BCD', set(elementPath(ENTRY, ELEMENTS.path), 'Element', nested))
    const unknown = await planRepair('point-store', { device: other, mode: 'uefi', time: 3n })
    expect(unknown.know?.join(' ')).toMatch(/does not start from this disk/)
  })
})

describe('a repair of what belongs to the old hardware', () => {
  it('lets go of letters of drives that stayed behind, of no others', async () => {
    const device = await makeSystemDisk()
    await spoil(device, 'uefi', SYSTEM_HIVE_PATH, async (bytes) => {
      const stray = letterBytes({ ...NOWHERE, partitionGuid: NOWHERE.diskGuid })
      const optical = new Uint8Array(90).fill(0x5c)
      const one = await set('MountedDevices', '\\DosDevices\\E:', stray)(bytes)
      return set('MountedDevices', '\\DosDevices\\F:', optical)(one)
    })
    const before = await storedDigest(device)
    const question = { device, mode: 'uefi' as const, time: 3n }
    const journal = memoryJournal()
    const plan = await planRepair('old-letters', question)
    expect(plan.changes).toEqual([expect.stringContaining('lets go of E:, as no volume')])
    await applyRepair(device, plan, journal)
    expect((await planRepair('old-letters', question)).patches).toEqual([])
    expect((await follow(device, FIRMWARE)).starts).toBe(true)
    const volume = (await openFileSystem(sliceOf(device, (await readScheme(device))!.partitions[2])))!
    const hive = await HiveEditor.open(await volume.readFile(SYSTEM_HIVE_PATH))
    expect(await hive.key('MountedDevices')).toBeDefined()
    await undoRepair(device, journal.record(), journal)
    expect(await storedDigest(device)).toEqual(before)
  })
})

const GIVEN_OUT: DriverFolder = {
  packages: [
    {
      kind: 'storage',
      folder: '/drivers/T9',
      inf: 'trmst9.inf',
      name: 'Tramonto ST9 storage controller',
      version: '2.4.1.0',
      service: 'trmst9',
      sizeBytes: 70_000,
      hardwareIds: ['PCI\\VEN_1F5C&DEV_09A1'],
      files: ['trmst9.inf', 'trmst9.sys'],
      read: async (file = 'trmst9.sys') => (file === 'trmst9.sys' ? pattern(70_000, 9) : pattern(900, 8)),
    },
    {
      kind: 'network',
      folder: '/drivers/T9',
      inf: 'trmne9.inf',
      name: 'Tramonto NE9 network card',
      version: '1.9.0.3',
      service: 'trmne9',
      sizeBytes: 40_000,
      hardwareIds: ['PCI\\VEN_1F5C&DEV_2201'],
      files: ['trmne9.inf', 'trmne9.sys'],
      read: async (file = 'trmne9.sys') => (file === 'trmne9.sys' ? pattern(40_000, 7) : pattern(800, 6)),
    },
  ],
  unusable: [{ path: '/drivers/x/broken.inf', why: 'it names no driver that goes onto this kind of system' }],
}
const NO_DRIVERS: DriverFolder = { packages: [], unusable: [] }

describe('a repair with what a maker gives out', () => {
  const driverFolder = GIVEN_OUT
  const question = (device: MemoryDevice) => ({
    device,
    mode: 'uefi' as const,
    time: 3n,
    drivers: ['trmst9'],
    driverFolder,
  })
  const start = (device: MemoryDevice) => follow(device, FIRMWARE, ['trmst9'])

  it('brings in the driver of a controller that the system never met, and takes it back', async () => {
    const device = await makeSystemDisk()
    const before = await storedDigest(device)
    const stopped = (await start(device)).links.find((l) => l.state === 'failed')!
    expect([stopped.id, stopped.repairs]).toEqual(['driver', ['bring-driver']])
    await expect(planRepair('start-driver', question(device))).rejects.toThrow(/has no driver for this controller/)
    const journal = memoryJournal()
    const plan = await planRepair('bring-driver', question(device))
    expect(plan.changes).toEqual([
      expect.stringMatching(
        /trmst9\.sys is made: 70.000 bytes, “Tramonto ST9 storage controller”, 2\.4\.1\.0, from \/drivers\/T9\/trmst9\.inf\.$/,
      ),
      expect.stringMatching(/\/Windows\/INF\/oem0\.inf, and .*\/FileRepository\/trmst9\.inf_amd64_[0-9a-f]{16}\.$/),
      'In /Windows/System32/config/SYSTEM, ControlSet001\\Services\\trmst9 is made and starts with the loader; it serves PCI\\VEN_1F5C&DEV_09A1.',
    ])
    await applyRepair(device, plan, journal)
    const trace = await start(device)
    expect(trace.starts).toBe(true)
    expect(trace.links.find((l) => l.id === 'driver')!.found).toMatch(/^trmst9, early/)
    const { partitions } = (await readScheme(device))!
    const slice = sliceOf(device, partitions[2])
    const volume = (await openFileSystem(slice))!
    expect(await volume.readFile('/Windows/System32/drivers/trmst9.sys')).toEqual(pattern(70_000, 9))
    expect(await volume.readFile('/Windows/INF/oem0.inf')).toEqual(pattern(900, 8))
    const [kept] = await volume.list('/Windows/System32/DriverStore/FileRepository')
    expect((await volume.list(kept.path)).map((e) => e.name).sort()).toEqual(['trmst9.inf', 'trmst9.sys'])
    expect(await volume.readFile(`${kept.path}/trmst9.sys`)).toEqual(pattern(70_000, 9))
    const hive = await HiveEditor.open(await volume.readFile(SYSTEM_HIVE_PATH))
    expect(await hive.key('ControlSet001\\Control\\CriticalDeviceDatabase\\pci#ven_1f5c&dev_09a1')).toBeDefined()
    await expectConsistent(slice)
    // It is there now, whatever is asked.
    expect((await planRepair('bring-driver', question(device))).patches).toEqual([])
    await undoRepair(device, journal.record(), journal)
    expect(await storedDigest(device)).toEqual(before)
  })

  it.each([
    ['no stick', { driverFolder: undefined }, /No driver folder is at hand/],
    ['a stick with nothing', { driverFolder: NO_DRIVERS }, /holds no storage driver/],
    ['a stick with another’s', { drivers: ['other'] }, /needs other.*There is: trmst9\. .*broken\.inf is not used/],
    [
      'one of that name for another device',
      { controllerId: 'PCI\\VEN_1F5C&DEV_0F00' },
      /needs PCI\\VEN_1F5C&DEV_0F00.*There is: trmst9, for PCI\\VEN_1F5C&DEV_09A1/,
    ],
  ])('is refused with %s', async (_what, other, why) => {
    const asked = { ...question(await makeSystemDisk()), ...other }
    await expect(planRepair('bring-driver', asked)).rejects.toThrow(why)
  })

  it('brings in the driver of the network card beside it, which waits for its device', async () => {
    const device = await makeSystemDisk()
    const before = await storedDigest(device)
    const cards = [{ name: 'Ethernet', drivers: [], deviceId: 'PCI\\VEN_1F5C&DEV_2201&REV_04' }]
    const asked = { ...question(device), cards }
    const journals = [memoryJournal(), memoryJournal()]
    await applyRepair(device, await planRepair('bring-driver', asked), journals[0])
    const plan = await planRepair('bring-network-driver', asked)
    // The name of the first package among those of all makers is taken by now.
    expect(plan.changes.join(' ')).toMatch(/oem1\.inf.*trmne9 is made and starts when the card is found\./)
    await applyRepair(device, plan, journals[1])
    const { partitions } = (await readScheme(device))!
    const slice = sliceOf(device, partitions[2])
    const volume = (await openFileSystem(slice))!
    expect(await volume.readFile('/Windows/System32/drivers/trmne9.sys')).toEqual(pattern(40_000, 7))
    const hive = await hiveIn(await volume.readFile(SYSTEM_HIVE_PATH))
    const service = (await hive.key('ControlSet001\\Services\\trmne9'))!
    expect(await hive.number(service, 'Start')).toBe(3)
    await expectConsistent(slice)
    expect((await planRepair('bring-network-driver', asked)).patches).toEqual([])
    expect((await start(device)).starts).toBe(true)
    for (const journal of journals.reverse()) await undoRepair(device, journal.record(), journal)
    expect(await storedDigest(device)).toEqual(before)
  })

  it('asks for no network driver of a card that nothing is known of', async () => {
    const asked = question(await makeSystemDisk())
    await expect(planRepair('bring-network-driver', asked)).rejects.toThrow(/not known which driver/)
  })
})

describe('a repair of the devices of another computer', () => {
  it('lets go of them and of the addresses of their cards, and of nothing else', async () => {
    const device = await makeSystemDisk({
      met: {
        devices: [
          { id: 'VEN_1B5A&DEV_0612', name: 'SATA controller', service: 'storahci' },
          { id: 'VEN_1B5A&DEV_8168', name: 'Network card', service: 'netcard' },
        ],
        addresses: { '{7d6e1d35-0001-4aa2-9d5c-2f60c1b4a001}': '192.168.7.31' },
      },
    })
    const before = await storedDigest(device)
    const question = { device, mode: 'uefi' as const, time: 3n }
    const plan = await planRepair('old-devices', question)
    expect(plan.changes).toEqual([
      expect.stringMatching(/Enum\\PCI lets go of 2 devices: SATA controller, Network card\./),
      expect.stringMatching(/The fixed address 192\.168\.7\.31 goes with its network card/),
    ])
    const journal = memoryJournal()
    await applyRepair(device, plan, journal)
    expect((await planRepair('old-devices', question)).patches).toEqual([])
    expect((await follow(device, FIRMWARE)).starts).toBe(true)
    await undoRepair(device, journal.record(), journal)
    expect(await storedDigest(device)).toEqual(before)
  })

  it('finds nothing to change where there are none', async () => {
    const plan = await planRepair('old-devices', { device: await makeSystemDisk(), mode: 'uefi', time: 3n })
    expect(plan.patches).toEqual([])
  })
})

describe('boot settings that are made anew', () => {
  const chance = new Uint8Array(16).fill(0x5a)
  const empty = makeStore({ managerDevice: NOWHERE, entries: [] }, 1n)

  it.each<[string, Firmware, () => Promise<MemoryDevice>, string, (bytes: Uint8Array) => Promise<Uint8Array>, RegExp]>([
    [
      'a store without entries',
      FIRMWARE,
      makeSystemDisk,
      '/EFI/Microsoft/Boot/BCD',
      async (b) => padded(empty, b),
      /no entry/,
    ],
    [
      'a store without entries, by BIOS',
      BIOS_FIRMWARE(),
      () => makeBiosDisk(),
      '/Boot/BCD',
      async (b) => padded(empty, b),
      /no entry/,
    ],
    [
      'a store that is no hive',
      FIRMWARE,
      makeSystemDisk,
      '/EFI/Microsoft/Boot/BCD',
      async (b) => new Uint8Array(b.length).fill(7),
      /cannot be read/,
    ],
    [
      'a store whose keys lead nowhere',
      BIOS_FIRMWARE(),
      () => makeBiosDisk(),
      '/Boot/BCD',
      async (b) => b.slice().fill(0xee, 4096 + 90, 4096 + 170),
      /cannot be read|contradicts itself/,
    ],
  ])('start the system where there was %s', async (_what, firmware, make, path, change, found) => {
    const device = await make()
    await spoil(device, firmware.mode, path, change)
    const before = await storedDigest(device)
    const stop = (await follow(device, firmware)).links.find((l) => l.state === 'failed')!
    expect([stop.id, stop.repairs]).toEqual(['settings', ['new-store']])
    expect(stop.found).toMatch(found)
    const journal = memoryJournal()
    const plan = await planRepair('new-store', { device, mode: firmware.mode, time: 3n, chance })
    expect(plan.changes).toEqual([
      expect.stringMatching(/BCD is made anew, with one entry: “Windows” on partition \d of this disk/),
      expect.stringMatching(/is gone/),
    ])
    await applyRepair(device, plan, journal)
    expect((await follow(device, firmware)).starts).toBe(true)
    await undoRepair(device, journal.record(), journal)
    expect(await storedDigest(device)).toEqual(before)
  })

  it('leave settings alone that start something', async () => {
    const question = { device: await makeSystemDisk(), mode: 'uefi' as const, time: 3n, chance }
    expect((await planRepair('new-store', question)).patches).toEqual([])
  })
})

/** A file of another content and the old length. */
function padded(content: Uint8Array, old: Uint8Array): Uint8Array {
  const bytes = new Uint8Array(old.length)
  bytes.set(content.subarray(0, old.length))
  return bytes
}

describe('a repair of the room a volume takes', () => {
  it('takes the system volume up to its partition and back', async () => {
    const small = await makeSystemDisk()
    const { partitions } = (await readScheme(small))!
    const system = partitions[2]
    const length = (system.lastLba - system.firstLba + 1) * 512
    const slice = new SliceDevice(small, system.firstLba * 512, length)
    await formatNtfs(new SliceDevice(slice, 0, length - 48 * MIB), {
      label: 'Harbour',
      serial: 7n,
      time: 1n,
      startSector: system.firstLba,
      files: [{ path: '/Windows/System32/winload.efi', content: new Uint8Array(9000).fill(1) }],
    })
    const before = await storedDigest(small)
    const question = { device: small, mode: 'uefi' as const, time: 1n }
    const journal = memoryJournal()
    await applyRepair(small, await planRepair('volume-size', question), journal)
    const volume = (await openFileSystem(slice))!
    expect(length - volume.totalBytes).toBeLessThanOrEqual(4096 + 512)
    expect(volume.state).toBe('clean')
    expect((await planRepair('volume-size', question)).patches).toEqual([])
    await undoRepair(small, journal.record(), journal)
    expect(await storedDigest(small)).toEqual(before)
  })
})

describe('a repair', () => {
  it.each(BROKEN_DISKS)(
    'mends %s, which the start ends at, and can be taken back',
    async (_what, link, repair, firmware, make, damage) => {
      const device = await make()
      expect((await follow(device, firmware)).starts).toBe(true)
      await damage(device)
      const broken = await follow(device, firmware)
      const failed = broken.links.find((l) => l.state === 'failed')!
      expect([failed.id, failed.repairs]).toEqual([link, [repair]])
      expect(failed.why).toBeTruthy()
      const before = await storedDigest(device)
      const question = { device, mode: firmware.mode, drivers: ['storahci'], time: 5n }
      const plan = await planRepair(repair, question)
      expect(plan.changes.join(' ')).toMatch(/[.]$/)
      // Working it out writes nothing.
      expect(await storedDigest(device)).toEqual(before)
      const journal = memoryJournal()
      await applyRepair(device, plan, journal)
      const next = (await follow(device, firmware)).links.find((l) => l.state === 'failed')
      // Another signature is also what the letters were kept by.
      if (next) {
        expect(next.repairs).toEqual(['drive-letters'])
        await applyRepair(device, await planRepair('drive-letters', question), memoryJournal())
        expect((await follow(device, firmware)).starts).toBe(true)
        return
      }
      expect((await planRepair(repair, question)).patches).toEqual([])
      await undoRepair(device, journal.record(), journal)
      expect(await storedDigest(device)).toEqual(before)
      expect(journal.record().state).toBe('undone')
    },
  )

  it('of a GPT writes both copies where they belong on a drive that became larger', async () => {
    const small = await makeSystemDisk()
    const device = new MemoryDevice(small.size + 64 * MIB)
    for (let at = 0; at < small.size; at += MIB) await device.write(at, await readBytes(small, at, MIB))
    const plan = await planRepair('backup-table', { device, mode: 'uefi', time: 1n })
    await applyRepair(device, plan, memoryJournal())
    const reading = await readScheme(device)
    expect(reading?.findings).toEqual([])
    expect((await follow(device, FIRMWARE)).links[1].evidence).toMatch(/at the last sector/)
  })

  it.each([
    ['of values in a hive', 'point-store', BROKEN_DISKS[0][5], {}],
    ['that makes a file', 'bring-driver', async () => {}, { drivers: ['trmst9'], driverFolder: GIVEN_OUT }],
  ])(
    '%s, cut off at any write, leaves the drive as it was once that is settled',
    async (_what, name, spoiled, more) => {
      const made = await makeSystemDisk()
      await spoiled(made)
      const before = await storedDigest(made)
      const plan = await planRepair(name, { device: made, mode: 'uefi', time: 5n, ...more })
      expect(plan.patches.length).toBeGreaterThan(1)
      for (let cut = 0; cut < plan.patches.length; cut++) {
        let left = cut
        const cutting: BlockDevice = Object.assign(Object.create(made) as BlockDevice, {
          size: made.size,
          logicalSectorSize: 512,
          read: made.read.bind(made),
          flush: made.flush.bind(made),
          write: async (offset: number, bytes: Uint8Array) => {
            if (left-- > 0) return made.write(offset, bytes)
            // The sector that was on its way is torn.
            const torn = (await readBytes(made, offset, bytes.length)).slice()
            torn.set(bytes.subarray(0, 100))
            await made.write(offset, torn)
            throw new Error('cut off')
          },
        })
        const journal = memoryJournal()
        await expect(applyRepair(cutting, plan, journal)).rejects.toThrow('cut off')
        expect(await settleRepair(made, journal.record(), journal)).toBe(true)
        expect(await storedDigest(made)).toEqual(before)
        expect(await settleRepair(made, journal.record(), journal)).toBe(false)
      }
    },
  )

  it('is refused when the drive changed since it was worked out, and settled only on what it was made for', async () => {
    const device = await makeSystemDisk()
    await BROKEN_DISKS[0][5](device)
    const plan = await planRepair('point-store', { device, mode: 'uefi', time: 5n })
    const { offset, before } = plan.patches[0]
    const journal = memoryJournal()
    const record: RepairRecord = {
      kind: 'repair',
      name: plan.name,
      title: plan.title,
      changes: [],
      state: 'writing',
      patches: plan.patches.map((p) => ({ ...p })),
    }
    await device.write(offset, new Uint8Array(before.length).fill(0xee))
    await expect(applyRepair(device, plan, journal)).rejects.toThrow(/has changed since/)
    expect(journal.kept).toEqual([])
    await expect(settleRepair(device, record, journal)).rejects.toThrow(/has changed since/)
    expect((await readBytes(device, offset, 4))[0]).toBe(0xee)
    expect(RepairRecordSchema.parse(JSON.parse(recordText(record)))).toEqual(record)
  })

  it('says in a sentence what it cannot do', async () => {
    const device = await makeSystemDisk()
    const question = { device, mode: 'uefi' as const, time: 1n }
    await expect(planRepair('magic', question)).rejects.toThrow(/There is no repair "magic"/)
    await expect(planRepair('active-partition', question)).rejects.toThrow(/Only an MBR/)
    await expect(planRepair('start-driver', question)).rejects.toThrow(/not known which controller/)
    await expect(planRepair('start-driver', { ...question, drivers: ['none'] })).rejects.toThrow(/driver folder/)
    await expect(planRepair('point-store', { ...question, device: new MemoryDevice(MIB) })).rejects.toThrow(
      /no partition table/,
    )
    const unsettled = await makeSystemDisk()
    await BROKEN_DISKS[0][5](unsettled)
    await spoil(unsettled, 'uefi', storePathOf('uefi'), async (bytes) => {
      const open = bytes.slice()
      viewOf(open).setUint32(4, 77, true)
      let sum = 0
      for (let at = 0; at < 508; at += 4) sum ^= viewOf(open).getUint32(at, true)
      viewOf(open).setUint32(508, sum >>> 0, true)
      return open
    })
    await expect(planRepair('point-store', { ...question, device: unsettled })).rejects.toThrow(/changes in its log/)
  })

  it('does not guess between two systems', async () => {
    const device = await makeSystemDisk({ systemFiles: [] })
    const { partitions } = (await readScheme(device))!
    const last = partitions[3]
    await formatNtfs(new SliceDevice(device, last.firstLba * 512, (last.lastLba - last.firstLba + 1) * 512), {
      label: 'Second',
      serial: 5n,
      time: 1n,
      startSector: last.firstLba,
      files: [{ path: '/Windows/System32/winload.efi', content: new Uint8Array(9000).fill(1) }],
    })
    await expect(planRepair('drive-letters', { device, mode: 'uefi', time: 1n })).rejects.toThrow(
      /More than one volume/,
    )
    await BROKEN_DISKS[0][5](device)
    await expect(planRepair('point-store', { device, mode: 'uefi', time: 1n })).rejects.toThrow(/cannot be told/)
  })
})
