import fc from 'fast-check'
import { expect, it } from 'vitest'
import { slotAt } from '@/core/things/bench'
import { linkIn, whyNotInto } from '@/core/things/bodies'
import { ComputerSchema } from '@/core/things/computer'
import { type Drive, DriveSchema } from '@/core/things/drive'
import { AccessorySchema } from '@/core/things/accessory'
import type { ThisComputer } from './computer'
import { knownAs, THIS_ID, thingsOf, type UsedDrive } from './things'

const COMPUTER: ThisComputer = {
  ...{ maker: 'Brezza', model: 'T20', memoryBytes: 2 ** 33, cores: 4, networkCards: [], unreadable: [] },
  ...{ firmware: 'uefi', secureBoot: true, bootEntries: [], bootOrder: [], bootCurrent: null },
}

const drive = (name: string, rest: Partial<UsedDrive> = {}): UsedDrive => ({
  ...{ name, number: '8:0', sequence: 9, sizeBytes: 240e9, logicalSectorSize: 512, physicalSectorSize: 4096 },
  ...{ model: 'Corvina S3', serial: `CRV3-${name}`, ofBridge: false, transport: 'SATA', usbMegabits: null },
  ...{
    isRotational: false,
    isRemovable: false,
    port: 'ata1',
    forgets: false,
    backingFile: null,
    backingOffset: 0,
    uses: [],
  },
  ...rest,
})

const whole = (seen: ReturnType<typeof thingsOf>) => {
  ComputerSchema.parse(seen.computer)
  for (const adapter of seen.accessories) AccessorySchema.parse(adapter)
  const drives = seen.drives.map(({ first, seen: kernel, place }, i): Drive => {
    return DriveSchema.parse({ ...first, id: `d${i}`, kernel, place })
  })
  return { bench: { computers: [seen.computer], accessories: seen.accessories, drives }, drives }
}

it('has what is built in within its slots, and what hangs at USB in adapters', () => {
  const { bench, drives } = whole(
    thingsOf(COMPUTER, [
      drive('sda'),
      drive('nvme0n1', { transport: 'NVMe', port: 'nvme0', model: 'Ostrica N2' }),
      drive('mmcblk0', { transport: 'eMMC', port: 'mmcblk0', serial: null }),
      drive('sdb', { transport: 'USB', port: 'usb 2-1.4', usbMegabits: 480, ofBridge: true }),
      drive('sdc', { transport: 'USB', port: 'usb 2-1.3', usbMegabits: 10_000, isRotational: true }),
    ]),
  )
  expect(drives.map(({ place }) => place)).toEqual([
    ...['ata1', 'nvme0', 'mmcblk0'].map((slot) => ({ kind: 'slot', computerId: THIS_ID, slot })),
    ...['port.usb-2-1.4', 'port.usb-2-1.3'].map((accessoryId) => ({ kind: 'bay', accessoryId, bay: 'drive' })),
  ])
  // Each goes into the place that it is seen in, over the link that its port agreed on.
  for (const one of drives) expect(whyNotInto(one, slotAt(bench, one.place)!, 0)).toBeUndefined()
  expect(drives.map((one) => linkIn(one, slotAt(bench, one.place)!))).toEqual(['own', 'own', 'own', 'usb-2', 'usb-10'])
  expect(drives.map((one) => one.kernel?.serialOf)).toEqual(['drive', 'drive', 'sectors', 'bridge', 'drive'])
  expect(drives[2].serial).toBe(String(240e9 / 512))
})

it('is known again by what it says of itself, in another port and under another name', () => {
  const keys = (...found: UsedDrive[]) => thingsOf(COMPUTER, found).drives.map((d) => d.seen.key)
  const [first] = keys(drive('sda', { serial: 'CRV3-1' }))
  expect(keys(drive('sdf', { serial: 'CRV3-1', port: 'usb 1-2', transport: 'USB' }))).toEqual([first])
  expect(keys(drive('sda', { serial: 'CRV3-2' }))).not.toEqual([first])
  expect(keys(drive('sda', { serial: 'CRV3-1', sizeBytes: 480e9 }))).not.toEqual([first])
  // The same file of a loop device, from another byte on, is another drive.
  const loop = { transport: 'loop' as const, serial: null, backingFile: '/a/disk.img' }
  const [whole0, part] = keys(drive('loop0', loop), drive('loop1', { ...loop, backingOffset: 4096 }))
  expect(part).not.toBe(whole0)
  expect(keys(drive('loop7', loop))).toEqual([whole0])
})

it('says whether it forgets what it is told to', () => {
  const seen = thingsOf(COMPUTER, [drive('sda', { forgets: true }), drive('sdb', { forgets: false })]).drives
  expect(seen.map((d) => d.seen.forgets)).toEqual([true, false])
})

it('tells two that say the same of themselves apart, and says so of both', () => {
  const twins = thingsOf(COMPUTER, [
    drive('sda', { serial: '000000000001', port: 'usb 1-1', transport: 'USB' }),
    drive('sdb', { serial: '000000000001', port: 'usb 1-2', transport: 'USB' }),
  ]).drives.map((d) => d.seen)
  expect(twins.map((t) => t.hasTwin)).toEqual([true, true])
  expect(twins[0].key).not.toBe(twins[1].key)
})

it('leaves out what is in sectors that nobody here knows, and is whole without any drive', () => {
  expect(whole(thingsOf(COMPUTER, [drive('sda', { logicalSectorSize: 520 })])).drives).toEqual([])
  expect(thingsOf(COMPUTER, []).computer.slots.length).toBe(1)
  const many = Array.from({ length: 40 }, (_, i) => drive(`sd${i}`, { port: `ata${i}` }))
  expect(whole(thingsOf(COMPUTER, many)).drives.length).toBe(40)
})

it('is whole whatever a device says of itself', () => {
  const texts = fc.string({ unit: 'binary', maxLength: 300 })
  const said = fc.record({ model: texts, serial: fc.option(texts), uses: fc.array(texts, { maxLength: 3 }) })
  fc.assert(
    fc.property(fc.array(said, { maxLength: 4 }), texts, (all, file) => {
      const found = all.map((one, i) => drive(`sd${i}`, { ...one, port: `ata${i}` }))
      const loop = drive('loop0', { transport: 'loop', serial: null, backingFile: `/${file.repeat(20)}` })
      whole(thingsOf({ ...COMPUTER, maker: file }, [...found, loop]))
    }),
  )
})

it('stays the drive that it is where another one with its serial comes and goes', () => {
  const usb = (name: string, sequence: number, port: string) =>
    drive(name, { serial: '000000000001', transport: 'USB', number: `8:${sequence}`, sequence, port })
  const [first, second] = [usb('sda', 1, 'usb 1-1'), usb('sdb', 2, 'usb 1-2')]
  const stored: Drive[] = []
  /** Names of those that are seen, by the drive of the bench that each one is. */
  const look = (...found: UsedDrive[]) => {
    const { drives } = thingsOf(COMPUTER, found)
    const known = knownAs(stored, drives)
    for (const [i, d] of stored.entries())
      if (![...known.values()].includes(d)) stored[i] = { ...d, kernel: { ...d.kernel!, path: null, device: null } }
    return drives.map(({ first: said, seen, place }) => {
      const is = [...known].find(([one]) => one.seen === seen)?.[1]
      const at = is ? stored.indexOf(is) : stored.length
      stored[at] = { ...said, id: `d${at}`, place, kernel: { ...seen, key: is?.kernel?.key ?? seen.key } }
      return at
    })
  }
  expect(look(first)).toEqual([0])
  expect(look(first, second)).toEqual([0, 1])
  expect(look(second)).toEqual([1])
  // Plugged in again, in another port and as another device.
  expect(look({ ...first, sequence: 3, port: 'usb 1-4' }, second)).toEqual([0, 1])
  expect(stored.length).toBe(2)
})

it('hangs at the network by its cards that do, as fast as each says', () => {
  const card = (name: string, megabits: number | null, isUp = true) => ({ name, megabits, isUp })
  const { computer, accessories } = thingsOf(
    { ...COMPUTER, networkCards: [card('wlan0', null), card('eth0', 1000), card('eth1', 100, false)] },
    [],
  )
  whole({ computer, accessories, drives: [] })
  expect(computer.networkCards.map(({ name, link }) => [name, link])).toEqual([
    ['eth0', 'ethernet-1'],
    ['wlan0', 'own'],
  ])
  expect(accessories).toMatchObject([{ kind: 'network', link: 'ethernet-1' }])
  expect(thingsOf({ ...COMPUTER, networkCards: [card('eth1', 100, false)] }, []).accessories).toEqual([])
})
