import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { Sequelize } from 'sequelize'
import sqlite3 from 'sqlite3'
import { memoryStorage, Umzug } from 'umzug'
import { afterEach, describe, expect, it } from 'vitest'
import { CopyChoicesSchema } from '@/core/copy/choices'
import { BriefSchema } from '@/core/intake/brief'
import { AccessorySchema } from '@/core/things/accessory'
import { ComputerSchema } from '@/core/things/computer'
import { DriveSchema } from '@/core/things/drive'
import { MIGRATIONS } from './migrations'
import { FitResultSchema, ReadyResultSchema } from './schemas'
import { upgradeChoices, upgradeFit, upgradeReady, upgradeRoute } from './upgrade'

const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-upgrade-'))
afterEach(() => rmSync(folder, { recursive: true, force: true }))

const OLD_DRIVE = {
  id: 'osn1-512',
  model: 'Ostrica N1',
  serial: 'OSN1-6620-3BT7',
  interfaceName: 'M.2 2280 M-key NVMe',
  kind: 'NVMe SSD',
  sizeBytes: 512_110_190_592,
  logicalSectorSize: 512,
  physicalSectorSize: 4096,
  readBytesPerSecond: 2400e6,
  writeBytesPerSecond: 1500e6,
  requestSeconds: 0.0003,
  encrypted: true,
  unreadable: [],
  file: 'osn1-512.img',
  image: null,
  place: { kind: 'slot', computerId: 'field-laptop', slot: 'M.2' },
}
const OLD_COMPUTER = {
  id: 'field-laptop',
  name: 'field laptop',
  model: 'Tramonto L5',
  firmware: { mode: 'uefi', secureBoot: true, bootMenuKey: 'F11', bootEntries: [], bootOrder: [] },
  memoryBytes: 17_179_869_184,
  slots: [{ id: 'M.2', interfaceName: 'M.2 2280 M-key NVMe', link: 'pcie-3x4' }],
  homeSlot: 'M.2',
  chassis: {
    kind: 'laptop',
    hasBattery: true,
    cover: { name: 'base', screws: 10, screw: 'five of 6 mm', how: '' },
    driveMount: { screws: 1, screw: 'M2 × 3 mm', how: '' },
    tools: ['Phillips 1'],
  },
  running: 'off',
  mains: true,
}
const OLD_ACCESSORIES = [
  {
    id: 'dock-a',
    name: 'USB dock A',
    kind: 'dock',
    detail: 'two bays',
    bays: [{ id: 'bay 1', interfaceName: '2.5-inch SATA', link: 'usb-5' }],
  },
  ...['stick', 'host', 'network'].map((kind) => ({ id: kind, name: kind, kind, detail: '', bays: [] })),
]
const OLD_BRIEF = {
  name: 'Field laptop',
  customer: 'Beekeepers’ co-op',
  reason: 'more room',
  computerId: 'field-laptop',
  sourceDriveIds: ['osn1-512'],
  targetDriveId: 'tln2-2000',
  toVirtualMachine: false,
  targetComputerId: null,
  backup: { where: 'at home', date: '2 May' },
  promised: '5 May, 12:00',
}

describe('a bench of the first version', () => {
  it('is described anew, and its moves begin again at Intake', async () => {
    const storage = path.join(folder, 'old.sqlite')
    const sequelize = new Sequelize({ dialect: 'sqlite', dialectModule: sqlite3, storage, logging: false })
    const context = sequelize.getQueryInterface()
    const run = (migrations: typeof MIGRATIONS) =>
      new Umzug({ migrations, context, storage: memoryStorage(), logger: undefined }).up()
    const all = MIGRATIONS as { name: string }[]
    await run([all[0]] as never)
    const insert = (table: string, id: string, data: unknown) =>
      context.bulkInsert(table, [{ id, data: JSON.stringify(data) }])
    await insert('drives', OLD_DRIVE.id, OLD_DRIVE)
    await insert('computers', OLD_COMPUTER.id, OLD_COMPUTER)
    for (const accessory of OLD_ACCESSORIES) await insert('accessories', accessory.id, accessory)
    await context.bulkInsert('moves', [
      { id: 'field-laptop', position: 0, brief: JSON.stringify(OLD_BRIEF), intake: '{"at":1}' },
    ])
    await context.bulkInsert('copies', [{ id: 'c', moveId: 'field-laptop', status: 'done', startedAt: 1 }])
    await run(all.slice(1) as never)

    const rows = async (table: string) =>
      (await sequelize.query(`SELECT * FROM ${table}`, { type: 'SELECT' })) as Record<string, string>[]
    const data = async (table: string) => (await rows(table)).map((r) => JSON.parse(r.data) as unknown)
    expect(DriveSchema.parse((await data('drives'))[0])).toMatchObject({
      body: { form: 'M.2', size: '2280', key: 'M' },
      protocol: 'PCIe',
      purpose: 'customer',
    })
    expect(ComputerSchema.parse((await data('computers'))[0]).slots[0].speaks).toEqual([
      { protocol: 'PCIe', link: 'pcie-3x4' },
    ])
    for (const accessory of await data('accessories')) AccessorySchema.parse(accessory)
    const [move] = await rows('moves')
    expect(BriefSchema.parse(JSON.parse(move.brief))).toMatchObject({
      pairs: [{ sourceId: 'osn1-512', targetId: 'tln2-2000' }],
      backup: { where: 'at home', date: '2026-05-02' },
      promised: '2026-05-05T12:00',
    })
    expect([move.intake, move.benchId]).toEqual([null, 'molo-sette'])
    expect(await rows('copies')).toEqual([])
    expect(await rows('benches')).toMatchObject([{ id: 'molo-sette', name: 'Molo Sette', active: 1 }])
    await sequelize.close()
  })
})

describe('choices in which leaving out page files had another name', () => {
  it('are read as those of now, wherever they are kept', () => {
    const old = { read: 'used', leaveIdle: true, verify: true }
    expect(CopyChoicesSchema.parse(upgradeChoices(old))).toMatchObject({ read: 'used', skipPageFiles: true })
    expect(upgradeChoices({ told: {}, choices: old })).toMatchObject({ told: {}, choices: { skipPageFiles: true } })
    expect(upgradeChoices({ told: {} })).toEqual({ told: {} })
  })
})

describe('what a person settled, and the links of a route', () => {
  it('have the names of now', () => {
    const settled = { backup: { at: 5 } }
    expect(ReadyResultSchema.parse(upgradeReady({ told: settled, whenDone: 'stay' }))).toMatchObject({
      ...{ acknowledged: settled, whenDone: 'stay' },
    })
    const route = (key: string) => ({
      at: 1,
      plan: { id: 'a', actions: [{ do: 'off' }, { do: 'transfer', [key]: 'usb' }] },
    })
    expect(upgradeRoute(route('way'))).toEqual(route('linkKey'))
    expect(upgradeRoute(route('linkKey'))).toEqual(route('linkKey'))
  })
})

describe('a fit of the version that only grew GPT disks', () => {
  it('is read as one of now', () => {
    const old = {
      at: 5,
      wish: { rules: { 1: 'keep', 2: 'fill' }, sizes: {}, reserve: 0 },
      headline: 'It fits',
      reason: '',
      layout: {
        diskGuid: 'd',
        sectorSize: 512,
        sourceSizeBytes: 1024,
        targetSizeBytes: 2048,
        gaps: [],
        partitions: [1, 2].map((number) => ({
          number,
          typeGuid: 't',
          guid: 'g',
          name: '',
          attributes: '0'.repeat(16),
          title: `Volume ${number}`,
          role: 'data',
          rule: 'keep',
          sourceFirstLba: 10,
          sourceLastLba: 19,
          firstLba: 10,
          lastLba: number * 10 + 9,
          usedBytes: 5,
          smallestBytes: 6,
        })),
      },
    }
    const { pairs, earlier } = FitResultSchema.parse(upgradeFit({ pairs: [old, null] }))
    expect([pairs[1], earlier]).toEqual([null, []])
    const { layout } = pairs[0]!
    expect([layout.scheme, layout.sourceSectorSize]).toEqual(['gpt', 512])
    expect(layout.partitions.map((p) => [p.sourceNumber, p.leastBytes, p.resizes])).toEqual([
      [1, 6, false],
      [2, 6, true],
    ])
  })
})
