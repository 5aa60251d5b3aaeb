import { existsSync, linkSync, rmSync, symlinkSync, truncateSync, writeFileSync } from 'node:fs'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { ACCESSORY_MODELS, COMPUTER_MODELS } from '@/bench/catalogue'
import type { Brief } from '@/core/intake/brief'
import { JsonFileError } from '@/core/json-file'
import { database } from '../database'
import { BenchRow, CopyRow, DriveRow, MoveRow } from '../database/models'
import { refusalCode, refused } from '../ground/testing'
import { listImages } from '../images'
import { ended } from '../jobs/testing'
import { loadMove } from '../moves'
import { changeMove, newMove } from '../moves/change'
import { progressOf } from '../moves/legs'
import { movePage } from '../moves/page'
import { planProblem } from '../moves/plan-problem'
import { benchView } from '../pages/bench'
import { boardState } from '../pages/board'
import { confirmIntake, measureAgain } from '../stations/intake'
import { moveForm } from '../stations/intake/form'
import { routesOf, takeRoute } from '../stations/route'
import { routeView } from '../stations/route/view'
import { confirmSurvey, readDrives } from '../stations/survey'
import { activeBench, benchState, computerById, driveById, placeDrive } from '.'
import {
  exportBench,
  importBench,
  listBenches,
  newBench,
  removeBench,
  renameBench,
  settleImport,
  showBench,
} from './benches'
import { putOnBench } from './image-drives'
import { openDemoBench } from '../../../tests/support/open-demo-bench'
import { addDrive, changeDrive, removeThing, saveAccessory, saveComputer, setPower } from './things'
import { dataFolder } from '@/server/ground/paths'

const folder = dataFolder()

beforeAll(async () => {
  await openDemoBench()
})

afterAll(async () => {
  await (await database()).close()
})

const t20 = { ...COMPUTER_MODELS['brezza-t20'], id: '', name: 'kiosk' }
const brief = (changes: Partial<Brief>): Brief => ({
  name: 'Kiosk',
  customer: 'Harbour office',
  reason: 'more room',
  computerId: 'ticket-desk',
  pairs: [{ sourceId: 'crv3-240', targetId: 'crv5-960' }],
  toVirtualMachine: false,
  targetComputerId: null,
  images: [],
  backup: null,
  promised: '',
  ...changes,
})

describe('a thing whose description is damaged', () => {
  it('is left out and named, and everything else of its bench is there', async () => {
    const { drives } = await benchState()
    const row = (await DriveRow.findByPk('crh2-250'))!
    const sequelize = await database()
    const store = (data: string) =>
      sequelize.query('UPDATE drives SET data = ? WHERE id = ?', { replacements: [data, row.id] })
    const whole = JSON.stringify(row.data)
    await store('{"model":')
    // A row that is written to makes all be read again.
    await DriveRow.update({ id: 'crv5-960' }, { where: { id: 'crv5-960' } })
    const now = await benchView()
    expect([now.unreadable, now.totals.drives]).toEqual([['crh2-250'], drives.length - 1])
    await store(whole)
    await DriveRow.update({ id: 'crv5-960' }, { where: { id: 'crv5-960' } })
    expect((await benchState()).drives).toHaveLength(drives.length)
  })
})

describe('things of the bench', () => {
  it('are added, changed and taken away', async () => {
    const id = await saveComputer(t20)
    expect(await computerById(id)).toMatchObject({ name: 'kiosk', running: 'off', mains: false })
    await saveComputer({ ...t20, id, name: 'newsstand', memoryBytes: 2 ** 34 })
    expect(await computerById(id)).toMatchObject({ name: 'newsstand', memoryBytes: 2 ** 34 })
    await setPower({ computerId: id, mains: true })
    expect((await computerById(id)).mains).toBe(true)
    await removeThing({ kind: 'computer', id })
    expect(await refusalCode(computerById(id))).toBe('computer-unknown')
  })

  it('are refused when they contradict themselves', async () => {
    const [slot] = t20.slots
    expect(await refused(saveComputer({ ...t20, slots: [slot, slot] }))).toMatch(/two places of the name SATA 0/)
    expect(await refused(saveComputer({ ...t20, homeSlot: 'M.2' }))).toMatch(/no slot M\.2/)
    await expect(saveComputer({ ...t20, slots: [] })).rejects.toThrow()
    await expect(saveAccessory({ id: '', kind: 'dock', name: 'x', detail: '', plugs: [], bays: [] })).rejects.toThrow()
  })

  it('keep the places that drives sit in', async () => {
    const desk = await computerById('ticket-desk')
    expect(await refused(saveComputer({ ...desk, slots: [desk.slots[1]], homeSlot: 'SATA 1' }))).toMatch(
      /Corvina S3 240 GB is in SATA 0 of the ticket desk/,
    )
    const { accessories } = await benchState()
    const dock = accessories.find((a) => a.id === 'dock-a')!
    const modules = {
      ...dock,
      bays: [{ id: 'bay 1', takes: [{ form: '3.5-inch' }], speaks: [{ protocol: 'PCIe', link: 'usb-5' }] }],
    }
    expect(await refusalCode(saveAccessory(modules))).toBe('drive-would-not-fit')
    expect(await refusalCode(removeThing({ kind: 'accessory', id: 'dock-a' }))).toBe('drive-in-place')
  })

  it('stay while a move rests on them', async () => {
    expect(await refused(removeThing({ kind: 'drive', id: 'tln1-256' }))).toMatch(/part of a move: Lighting desk/)
    expect(await refusalCode(removeThing({ kind: 'computer', id: 'ticket-desk' }))).toBe('drive-in-place')
    // What is seen where it is plugged in is nobody's to take away or describe.
    const port = { ...ACCESSORY_MODELS.network, id: 'port.network' }
    expect(await refusalCode(removeThing({ kind: 'accessory', id: port.id }))).toBe('thing-is-seen')
    expect(await refusalCode(saveAccessory(port))).toBe('thing-is-seen')
  })
})

describe('a drive', () => {
  const blank = {
    from: 'blank',
    kind: 'nvme',
    model: 'Tellina N3',
    serial: 'TLN3-0001-AAAA',
    sizeBytes: 500_000_000_000,
    logicalSectorSize: 512,
    purpose: 'customer',
  }

  it('that is blank has bytes of its own, and they go with it', async () => {
    const id = await addDrive(blank)
    const drive = await driveById(id)
    expect(drive).toMatchObject({ kind: 'NVMe SSD', protocol: 'PCIe', place: { kind: 'table' }, file: `${id}.img` })
    expect(drive.sizeBytes % 512).toBe(0)
    const file = path.join(folder, 'drives', drive.file!)
    expect(existsSync(file)).toBe(true)
    expect(await refusalCode(addDrive({ ...blank, serial: 'tln3-0001-aaaa' }))).toBe('serial-taken')
    await changeDrive({ ...drive, model: 'Tellina N4', purpose: 'transfer' })
    expect(await driveById(id)).toMatchObject({ model: 'Tellina N4', purpose: 'transfer', sizeBytes: drive.sizeBytes })
    await removeThing({ kind: 'drive', id })
    expect(existsSync(file)).toBe(false)
  })

  it('is not described so that it would not go where it sits', async () => {
    const drive = await driveById('crv5-960')
    expect(
      await refused(changeDrive({ ...drive, body: { form: 'M.2', size: '2280', key: 'M' }, protocol: 'PCIe' })),
    ).toMatch(/is in bay 1 of the USB dock A/)
  })

  it('stands for an image once', async () => {
    const file = path.join(folder, 'images', 'blank.img')
    writeFileSync(file, '')
    truncateSync(file, 300_000_000_000)
    expect((await listImages()).find((i) => i.name === 'blank.img')?.opened).toBeTruthy()
    const id = await addDrive({ from: 'image', image: 'blank.img', kind: 'sata-ssd' })
    expect(await driveById(id)).toMatchObject({ image: 'blank.img', file: null, sizeBytes: 300_000_000_000 })
    expect(await refusalCode(addDrive({ from: 'image', image: 'blank.img', kind: 'sata-ssd' }))).toBe('image-on-bench')
    await removeThing({ kind: 'drive', id })
    expect(existsSync(file)).toBe(true)
  })
})

describe('a new move', () => {
  it('is opened with what its drives tell, and refused where it clashes', async () => {
    const form = await moveForm()
    expect(form.drives.find((d) => d.id === 'oss1-128')).toMatchObject({ isSystem: true, usedBy: 'Survey office PC' })
    expect(await refused(newMove(brief({})))).toMatch(/is the target of another move: Ticket desk/)
    expect(await refused(newMove(brief({ pairs: [{ sourceId: 'crh2-250', targetId: 'crv3-240' }] })))).toMatch(
      /cannot be a target/,
    )
    expect(await refusalCode(newMove(brief({ pairs: [{ sourceId: 'crv5-960', targetId: 'crh2-250' }] })))).toBe(
      'source-is-target',
    )
    const { drives } = await benchState()
    const old = drives.find((d) => d.id === 'crh2-250')!
    const kept = { ...old, shelf: { label: 'Choir, old', until: '2026-05-18' } }
    await DriveRow.update({ data: kept }, { where: { id: old.id } })
    expect(await refused(newMove(brief({ pairs: [{ sourceId: 'oss1-128', targetId: 'crh2-250' }] })))).toMatch(
      /is the way back of an earlier move, Choir, old, and is kept until 18 May/,
    )
    await DriveRow.update({ data: old }, { where: { id: old.id } })
    expect(await refused(newMove(brief({ pairs: [{ sourceId: 'x', targetId: 'x' }] })))).toMatch(
      /both a source and a target/,
    )
    expect(
      await refused(newMove(brief({ computerId: 'none', pairs: [{ sourceId: 'crh2-250', targetId: 'lmt4-4000' }] }))),
    ).toMatch(/no longer on the bench/)
    await expect(newMove({ ...brief({}), customer: '' })).rejects.toThrow()
  })

  it('can be changed until it was copied, which lets go of what was read', async () => {
    const pairs = [{ sourceId: 'crh2-250', targetId: 'lmt4-4000' }]
    const id = await newMove(brief({ name: 'Choir', pairs }))
    expect(id).toBe('choir')
    expect(
      await newMove(
        brief({
          name: 'Choir',
          computerId: 'field-laptop',
          pairs: [
            {
              sourceId: 'crh2-250',
              targetId: await addDrive({
                from: 'blank',
                kind: 'sata-ssd',
                model: 'Corvina S5',
                serial: 'CRV5-1111-2222',
                sizeBytes: 1e12,
                logicalSectorSize: 512,
                purpose: 'customer',
              }),
            },
          ],
        }),
      ),
    ).toBe('choir-2')
    await ended(confirmIntake(id))
    await ended(readDrives(id))
    await changeMove(id, brief({ name: 'Choir', customer: 'The choir', pairs }))
    expect((await loadMove(id)).row.survey).not.toBeNull()
    await changeMove(id, brief({ name: 'Choir', pairs, computerId: 'lighting-desk' }))
    expect((await loadMove(id)).row).toMatchObject({ survey: null, intake: null })
    for (const gone of ['choir', 'choir-2']) await MoveRow.destroy({ where: { id: gone } })
  })

  it('measures the old drive, and does so again when asked', async () => {
    await ended(confirmIntake('lighting-desk'))
    const speeds = async () => (await loadMove('lighting-desk')).row.intake!.speeds['lmp7-320']
    const first = await speeds()
    expect(first.sequentialBytesPerSecond).toBeLessThan(92e6)
    expect(first.over).toBe('lighting desk, SATA 0, SATA 3 Gb/s')
    await ended(measureAgain('lighting-desk'))
    expect((await speeds()).sequentialBytesPerSecond).toBe(first.sequentialBytesPerSecond)
  })
})

describe('plans of the scenario', () => {
  it('are there for all moves', async () => {
    const ways: Record<string, RegExp[]> = {
      'ticket-desk': [/^New drive outside, swap after$/, /^Both drives inside$/],
      'lighting-desk': [/^New drive in first/, /^Both drives outside, at the Workshop host$/],
      'logbook-server': [/^Over the network to a virtual disk$/],
      'field-laptop': [/^New drive in first/, /^New drive outside/],
      'editing-computer': [/^Two legs over the Lampara T4 4 TB$/, /^By an image/],
      'survey-office': [/^From the image on the Workshop host$/, /^Old drive outside/],
    }
    for (const [id, titles] of Object.entries(ways)) {
      await ended(confirmIntake(id))
      await ended(readDrives(id))
      await confirmSurvey(id)
      const { plans } = await routesOf(await loadMove(id))
      for (const title of titles) expect([id, plans.some((p) => title.test(p.title))]).toEqual([id, true])
    }
  })

  it('are corrected by what earlier copies did, and say from how many', async () => {
    const before = (await routeView(await movePage('ticket-desk'))).plans[0]
    const row = {
      moveId: 'x',
      leg: 0,
      linkKey: 'sata-6>dock-a:usb-5',
      startedAt: 1,
      endedAt: 2,
      message: null,
      progress: null,
      summary: null,
      choices: null,
      resumable: false,
      verifyFailed: false,
    }
    for (const [i, throughputRatio] of [0.8, 0.9].entries())
      await CopyRow.create({ ...row, id: `past-${i}`, status: 'done', throughputRatio })
    const after = (await routeView(await movePage('ticket-desk'))).plans.find((p) => p.id === before.id)!
    expect(after.legs[0].known.copies).toBe(2)
    expect(after.legs[0].known.share).toBeCloseTo(0.85, 6)
    expect(after.lowSeconds).toBeCloseTo(before.lowSeconds / 0.85, 3)
    await CopyRow.destroy({ where: { moveId: 'x' } })
  })

  it('that a drive was pulled out of are told, with the nearest that works, and nothing is changed', async () => {
    const trouble = async () => {
      const move = await loadMove('ticket-desk')
      return planProblem(move, await progressOf(move.row))
    }
    const { plans } = await routesOf(await loadMove('ticket-desk'))
    await takeRoute('ticket-desk', { plan: plans[0].id })
    expect(await trouble()).toBeUndefined()
    await placeDrive('crv5-960', { kind: 'table' })
    const told = await trouble()
    expect(told).toMatchObject({ stops: true })
    expect(told!.sentence).toMatch(/Corvina S5 960 GB is on the table/)
    expect(told!.instead?.title).toBeTruthy()
    expect((await loadMove('ticket-desk')).row.route!.plan.id).toBe(plans[0].id)
    expect((await boardState()).moves[0].status).toMatch(/route no longer works/)
    await placeDrive('crv5-960', { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 1' })
    expect(await trouble()).toBeUndefined()
    expect(await refusalCode(takeRoute('ticket-desk', { plan: 'none' }))).toBe('route-gone')
  })

  it('of two moves that want one place clash, and both say so', async () => {
    const lighting = await routesOf(await loadMove('lighting-desk'))
    const plan = lighting.plans.find((p) =>
      p.actions.some((a) => a.do === 'transfer' && JSON.stringify(a).includes('"bay":"bay 2"')),
    )!
    await takeRoute('lighting-desk', { plan: plan.id })
    const ticket = await routesOf(await loadMove('ticket-desk'))
    const other = ticket.plans.find((p) =>
      p.actions.some((a) => a.do === 'transfer' && JSON.stringify(a).includes('"bay":"bay 2"')),
    )!
    await takeRoute('ticket-desk', { plan: other.id })
    for (const id of ['lighting-desk', 'ticket-desk']) {
      const move = await loadMove(id)
      const told = await planProblem(move, await progressOf(move.row))
      expect(told).toMatchObject({ stops: false })
      expect(told!.sentence).toMatch(/wants the same place, bay 2 of the USB dock A/)
    }
  })
})

describe('benches', () => {
  it('are made, named, shown and taken away', async () => {
    const demo = await activeBench()
    const id = await newBench('Second table')
    expect(await activeBench()).toEqual({ id, name: 'Second table' })
    expect(await benchState()).toMatchObject({ computers: [], accessories: [], drives: [] })
    expect((await boardState()).moves).toEqual([])
    expect(await refused(newBench('second TABLE'))).toMatch(/of the name Second table already/)
    await renameBench('Third table')
    const drive = await addDrive({
      from: 'blank',
      kind: 'sata-ssd',
      model: 'Corvina S5',
      serial: 'CRV5-3333-4444',
      sizeBytes: 1e9,
      logicalSectorSize: 512,
      purpose: 'customer',
    })
    expect(await refusalCode(removeBench('Second table'))).toBe('bench-name-wrong')
    await removeBench('Third table')
    expect((await listBenches()).map((b) => b.name)).toEqual([demo.name])
    expect(await refused(driveById(drive))).toMatch(/no such drive/)
    expect(await refusalCode(removeBench(demo.name))).toBe('bench-last')
    expect(await refusalCode(showBench('none'))).toBe('bench-unknown')
  })

  it('go into a file and come out of it as they were, without the bytes', async () => {
    const demo = await activeBench()
    const { text } = await exportBench(demo.id)
    const { id, name, described } = await importBench(text)
    expect(name).toBe('Molo Sette (2)')
    const [before, after] = [await benchState(demo.id), await benchState(id)]
    const names = (state: typeof before) => state.drives.map((d) => [d.model, d.serial, d.sizeBytes, d.place.kind])
    expect(names(after)).toEqual(names(before))
    expect(after.computers.map((c) => c.name)).toEqual(before.computers.map((c) => c.name))
    // Those that the scenario wrote on are only described; the new ones are blank again.
    expect(described).toBe(11)
    expect(
      after.drives.filter((d) => d.file !== null).every((d) => existsSync(path.join(folder, 'drives', d.file!))),
    ).toBe(true)
    const view = await benchView()
    expect(view.name).toBe(name)
    await removeBench(name)
  })

  it('have one drive for an image, whatever its names, and none for what lies elsewhere', async () => {
    const images = path.join(folder, 'images')
    const outside = path.join(folder, 'outside.img')
    writeFileSync(path.join(images, 'own.img'), new Uint8Array(1_048_576))
    writeFileSync(outside, new Uint8Array(1_048_576))
    linkSync(path.join(images, 'own.img'), path.join(images, 'same.img'))
    symlinkSync(path.join(images, 'own.img'), path.join(images, 'linked.img'))
    symlinkSync(outside, path.join(images, 'elsewhere.img'))
    const { text } = await exportBench((await activeBench()).id)
    const file = JSON.parse(text) as { drives: Record<string, unknown>[]; name: string }
    const drives = ['own', 'same', 'linked', 'elsewhere'].map((name, i) => ({
      ...file.drives[0],
      id: `drive-of-${name}`,
      serial: `DRV-000${i}`,
      content: 'image',
      image: `${name}.img`,
      place: { kind: 'table' },
    }))
    const { id, name } = await importBench(JSON.stringify({ ...file, name: 'Images', drives }))
    const byId = new Map((await benchState(id)).drives.map((d) => [d.id, d.image]))
    expect(drives.map((d) => byId.get(d.id))).toEqual(['own.img', null, null, null])
    expect(await refusalCode(putOnBench({ image: 'linked.img' }))).toBe('image-on-bench')
    await removeBench(name)
    for (const link of ['own', 'same', 'linked', 'elsewhere']) rmSync(path.join(images, `${link}.img`))
  })

  it('that were cut off while they were taken in leave nothing behind', async () => {
    const drives = path.join(folder, 'drives')
    const kept = (await benchState()).drives.find((d) => d.file !== null)!.file!
    writeFileSync(path.join(drives, 'half-taken.img'), '')
    writeFileSync(path.join(folder, 'import.json'), JSON.stringify(['half-taken.img', 'never-made.img', kept]))
    await settleImport()
    expect(['half-taken.img', kept].map((file) => existsSync(path.join(drives, file)))).toEqual([false, true])
    expect(existsSync(path.join(folder, 'import.json'))).toBe(false)
    // All rows of a bench are stored at once: one that is refused takes the others along.
    const { text } = await exportBench((await activeBench()).id)
    const before = [await DriveRow.count(), (await listBenches()).length]
    vi.spyOn(BenchRow, 'create').mockRejectedValueOnce(new Error('the power is gone'))
    await expect(importBench(text)).rejects.toThrow(/power is gone/)
    expect([await DriveRow.count(), (await listBenches()).length]).toEqual(before)
    expect(existsSync(path.join(folder, 'import.json'))).toBe(false)
  })

  it('that are malformed are refused, and leave nothing behind', async () => {
    const { text } = await exportBench((await activeBench()).id)
    const before = await listBenches()
    await expect(importBench(text.replace('"sata-6"', '"sata-99"'))).rejects.toThrow(JsonFileError)
    await expect(importBench('{')).rejects.toThrow(/Line 1, column/)
    expect(await listBenches()).toEqual(before)
  })
})
