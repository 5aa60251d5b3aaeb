import { createHash } from 'node:crypto'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import type * as openDriveModule from '@/outside/open-drive'
import { openDrive } from '@/outside/open-drive'
import { readBytes } from '@/core/block/device'
import { readOnly } from '@/core/block/readonly'
import { scopeOf, USUAL_CHOICES } from '@/core/copy/choices'
import { planCopy } from '@/core/copy/plan'
import { CopySummarySchema } from '@/core/copy/progress'
import { runCopy } from '@/core/copy/run'
import { SheetSchema } from '@/core/handover/sheet'
import { takeSamples } from '@/core/proof/samples'
import type * as repairJournalModule from '@/host/repair-journal'
import { repairIn } from '@/host/repair-journal'
import type * as threadsModule from './jobs/threads'
import { blake3 } from '@/host/strong-digest'

// The power goes after so many writes to a drive, to a journal or to the database.
const power = vi.hoisted(() => {
  const left = { writes: Infinity }
  const spend = () => {
    if (left.writes-- <= 0) throw new Error('the power is gone')
  }
  return { left, spend }
})
vi.mock('@/outside/open-drive', async (original) => {
  const real = await original<typeof openDriveModule>()
  const openDrive: typeof real.openDrive = async (...of) => {
    const opened = await real.openDrive(...of)
    const { device } = opened
    const write: typeof device.write = async (offset, from) => (power.spend(), device.write(offset, from))
    const flush = async () => (power.spend(), device.flush())
    return { ...opened, device: Object.assign(Object.create(device) as typeof device, { write, flush }) }
  }
  return { ...real, openDrive }
})
vi.mock('@/host/repair-journal', async (original) => {
  const real = await original<typeof repairJournalModule>()
  const repairJournal: typeof real.repairJournal = (file) => ({
    async keep(text) {
      power.spend()
      await real.repairJournal(file).keep(text)
      power.spend()
    },
  })
  return { ...real, repairJournal }
})
// What writes a repair runs where the power can be cut.
vi.mock('./jobs/threads', async (original) => {
  const real = await original<typeof threadsModule>()
  const { TASKS } = await import('./jobs/threads/tasks')
  const HERE = ['makeRepair', 'undoDriveRepair', 'settleDriveRepair']
  const runTask: typeof real.runTask = (name, order, options) => {
    const task = TASKS[name] as (of: typeof order) => ReturnType<typeof real.runTask<typeof name>>
    return HERE.includes(name) ? task(order) : real.runTask(name, order, options)
  }
  return { ...real, runTask }
})
vi.mock('./moves', async (original) => {
  const real = await original<typeof moveModule>()
  return {
    ...real,
    saveStationResults: async (...of: Parameters<typeof real.saveStationResults>) => (
      power.spend(),
      real.saveStationResults(...of)
    ),
  }
})

import { benchShop, benchState, computerById, driveById, driveBytes, placeDrive } from './world'
import { openDemoBench } from '../../tests/support/open-demo-bench'
import { advance } from './world/clock'
import { switchComputer } from './world/computers'
import { database } from './database'
import { ended } from './jobs/testing'
import { CopyRow, DriveRow } from './database/models'
import { lockFit } from './stations/fit'
import { handOver } from './stations/handover'
import { sheetFile } from './stations/handover/files'
import { confirmIntake } from './stations/intake'
import type * as moveModule from './moves'
import { loadMove } from './moves'
import { driveOf } from './moves/media'
import { loadLeg } from './moves/legs'
import { movePage } from './moves/page'
import { dataFolder, journalsFolder } from './ground/paths'
import * as views from './stations/testing'
import { pastMoves } from './pages/past'
import { startTrial } from './stations/proof'
import { makeRepair, settleRepairs, takeRepairBack } from './stations/proof/repairs'
import { goBack } from './stations/proof/way-back'
import { readyAction } from './stations/ready'
import { takeRoute } from './stations/route'
import { eraseDrive, labelView, openingsFor, putBack, shelfState } from './pages/shelf'
import { confirmSurvey, readDrives } from './stations/survey'
import { finishStep, tickScrews, untickStep } from './stations/swap'
import { refusalCode, refused } from './ground/testing'
import { runsOf } from '@/core/testing'

const folder = dataFolder()

const MOVE = 'ticket-desk'
/** Each write in the deep run. */
const STEP = runsOf(4, 1)
const OLD = 'crv3-240'
const NEW = 'crv5-960'

const swap = async () => views.swapView(await movePage(MOVE))
const proof = async () => views.proofView(await movePage(MOVE))
const slot = (name: string) => ({ kind: 'slot', computerId: MOVE, slot: name }) as const
const placeOf = async (id: string) => (await driveById(id)).place

/** Ticks off what is next until a step of that name is. */
async function upTo(short: RegExp): Promise<void> {
  for (;;) {
    const { steps, done } = await swap()
    if (short.test(steps[done].short)) return
    await finishStep(MOVE, { step: steps[done].id })
  }
}

beforeAll(async () => {
  await openDemoBench()
  await ended(confirmIntake(MOVE))
  await ended(readDrives(MOVE))
  await confirmSurvey(MOVE)
  const [first] = (await views.routeView(await movePage(MOVE))).plans
  await takeRoute(MOVE, { plan: first.id })
  // Room stays unallocated behind the system volume, to be taken up afterwards.
  await lockFit(MOVE, {
    wish: { rules: { '3': 'set' }, sizes: { '3': 300 * 2 ** 30 }, reserve: 0, order: [1, 2, 4, 3] },
  })
  await readyAction(MOVE, { action: 'start-stick' })
  const leg = await loadLeg(await loadMove(MOVE))
  const source = await openDrive(driveBytes(driveOf(leg.from)!), { writable: false })
  const target = await openDrive(driveBytes(driveOf(leg.to)!), { writable: true })
  try {
    const plan = await planCopy(readOnly(source.device), leg.layout, scopeOf(USUAL_CHOICES))
    const outcome = await runCopy(plan, target.device, {
      digest: blake3,
      note: '',
      verify: false,
      onStep: async () => {},
    })
    const { copiedBytes, writtenBytes, checkedBytes, digest, bufferBytes } = outcome
    const partitions = plan.partitions.map((p) => ({ ...p, leftOut: [...p.leftOut] }))
    const times = { copySeconds: 500, checkSeconds: 0 }
    await CopyRow.create({
      id: 'whole',
      moveId: MOVE,
      leg: 0,
      linkKey: null,
      throughputRatio: null,
      status: 'done',
      startedAt: 1,
      endedAt: 2,
      message: null,
      progress: null,
      summary: CopySummarySchema.parse({
        ...{ copiedBytes, writtenBytes, checkedBytes, digest, bufferBytes, partitions },
        ...times,
      }),
      samples: await takeSamples(source.device, leg.sampledBy!, [], blake3),
      choices: USUAL_CHOICES,
      resumable: false,
      verifyFailed: false,
    })
  } finally {
    await source.close()
    await target.close()
  }
}, 120_000)

afterAll(async () => {
  await (await database()).close()
})

describe('the swap', () => {
  it('asks its steps in their order, and no other', async () => {
    const { steps, done, beforeLeg } = await swap()
    expect([done, beforeLeg]).toEqual([0, null])
    expect(steps.filter((s) => s.afterStart).length).toBe(2)
    expect(await refused(finishStep(MOVE, { step: steps[1].id }))).toBe(`The next step is: ${steps[0].title}.`)
    expect(await refusalCode(finishStep(MOVE, { step: 'none' }))).toBe('swap-other-step')
    await expect(finishStep(MOVE, { step: 7 })).rejects.toThrow()
    await finishStep(MOVE, { step: steps[0].id })
    expect((await computerById(MOVE)).running).toBe('off')
  })

  it('counts screws kind by kind, and goes on only with all of them', async () => {
    await upTo(/panel off/)
    const { steps, done } = await swap()
    const step = steps[done].id
    expect(await refusalCode(tickScrews(MOVE, { step, group: 3, count: 1 }))).toBe('swap-no-screws')
    expect(await refusalCode(tickScrews(MOVE, { step, group: 0, count: 9 }))).toBe('swap-no-screws')
    await tickScrews(MOVE, { step, group: 0, count: 1 })
    expect((await swap()).tray).toMatchObject([{ count: 1 }])
    expect(await refused(finishStep(MOVE, { step }))).toMatch(/1 of 2 screws are out\. Tick the one that is left/)
    await tickScrews(MOVE, { step, group: 0, count: 2 })
    await finishStep(MOVE, { step })
  })

  it('keeps hands out of a computer that has power', async () => {
    await upTo(/^Old drive out/)
    const { steps, done } = await swap()
    await switchComputer(MOVE, { do: 'mains', on: true })
    expect(await refused(finishStep(MOVE, { step: steps[done].id }))).toMatch(
      /mains cable of the ticket desk is in again/,
    )
    expect(await placeOf(OLD)).toEqual(slot('SATA 0'))
    await switchComputer(MOVE, { do: 'mains', on: false })
  })

  it('unticks steps one by one, and the bench is as it was before each', async () => {
    const look = async () => {
      const { mains, running, batteryOut, firmware } = await computerById(MOVE)
      return {
        places: await Promise.all([OLD, NEW].map(placeOf)),
        mains,
        running,
        batteryOut,
        bios: firmware.secureBoot,
      }
    }
    const from = (await swap()).done
    const seen = []
    while (!/^Plugged in/.test((await swap()).steps[(await swap()).done].short)) {
      seen.push(await look())
      const { steps, done } = await swap()
      await finishStep(MOVE, { step: steps[done].id })
    }
    expect(seen.length).toBeGreaterThan(2)
    for (const before of [...seen].reverse()) {
      expect((await swap()).canUntick).toBe(true)
      await untickStep(MOVE)
      expect(await look()).toEqual(before)
    }
    expect((await swap()).done).toBe(from)
    // The cable is in again by somebody's hand: nothing is put back into a live computer.
    await upTo(/^Plugged in/)
    await switchComputer(MOVE, { do: 'mains', on: true })
    const { steps, done } = await swap()
    const at = steps.slice(0, done).findLastIndex((step) => step.effect?.kind === 'put')
    for (let left = done - 1; left > at; left--) await untickStep(MOVE)
    expect(await refused(untickStep(MOVE))).toMatch(/power/)
    await switchComputer(MOVE, { do: 'mains', on: false })
  })

  it('gives no power to a drive and its copy together', async () => {
    await upTo(/^Plugged in/)
    expect(await placeOf(OLD)).toEqual({ kind: 'shelf' })
    expect(await placeOf(NEW)).toEqual(slot('SATA 0'))
    // Somebody puts the old one into the second slot.
    await placeDrive(OLD, slot('SATA 1'))
    const { steps, done } = await swap()
    expect(await refused(finishStep(MOVE, { step: steps[done].id }))).toMatch(
      /Corvina S3 240 GB and the Corvina S5 960 GB are both in the ticket desk and carry one identity/,
    )
    await placeDrive(OLD, { kind: 'shelf' }, { label: 'Ticket desk, old', until: '' })
    await finishStep(MOVE, { step: steps[done].id })
    expect((await computerById(MOVE)).mains).toBe(true)
  })

  it('leaves the case open until it has started', async () => {
    const { steps, done } = await swap()
    expect(steps[done].afterStart).toBe(true)
    expect(await refusalCode(finishStep(MOVE, { step: steps[done].id }))).toBe('swap-before-start')
    expect((await movePage(MOVE)).rail.find((s) => s.id === 'swap')).toMatchObject({
      state: 'done',
      note: 'old drive out',
    })
  })
})

describe('the proof', () => {
  it('starts from the new drive, and needs nothing of the old one for it', async () => {
    // Its bytes are out of reach, as they are on a shelf.
    const { renameSync } = await import('node:fs')
    const file = `${folder}/drives/${(await driveById(OLD)).file}`
    renameSync(file, `${file}.away`)
    await ended(startTrial(MOVE))
    renameSync(`${file}.away`, file)
    const { trial, closing } = await proof()
    expect(trial).toMatchObject({ subject: 'target', drive: 'Corvina S5 960 GB' })
    expect(trial!.trace.links.map((l) => l.state)).toEqual(Array(8).fill('passed'))
    expect(trial!.checks.map((c) => [c.id, c.passed])).toEqual([
      ['system-volume', true],
      ['volumes', true],
      ['sizes', true],
      ['samples', true],
    ])
    expect(trial!.checks.find((c) => c.id === 'samples')!.found).toMatch(/^\d{3} files compared$/)
    expect(closing).toMatch(/^Shut/)
  })

  it('refuses a start with the old drive in a dock that was plugged in', async () => {
    await switchComputer(MOVE, { do: 'shut-down' })
    await placeDrive(OLD, { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 2' })
    expect(await refused(ended(startTrial(MOVE)))).toMatch(
      /Corvina S3 240 GB in the USB dock A, bay 2 carries the same identity as the Corvina S5 960 GB/,
    )
    // At an adapter that no copy of this move used it is not attached.
    await placeDrive(OLD, { kind: 'bay', accessoryId: 'cable-adapter', bay: 'plug' })
    await ended(startTrial(MOVE))
    await placeDrive(OLD, { kind: 'shelf' }, { label: 'Ticket desk, old', until: '' })
  })

  it('takes up what was left unallocated, and gives it back', async () => {
    const { after } = await proof()
    expect(after?.room).toMatchObject({ into: 'Harbour (C:)' })
    await ended(makeRepair(MOVE, 'take-up-room'))
    expect((await proof()).repaired).toBe(true)
    await ended(startTrial(MOVE))
    const { trial } = await proof()
    expect(trial!.checks.filter((c) => !c.passed)).toEqual([])
    expect(trial!.checks.find((c) => c.id === 'sizes')!.found).toMatch(/893\.\d GiB/)
    await ended(takeRepairBack(MOVE))
    await ended(startTrial(MOVE))
    expect((await proof()).trial!.checks.find((c) => c.id === 'sizes')!.found).toMatch(/300\.0 GiB/)
  })

  it('knows a repair that the power cut at any write, whole or taken back', async () => {
    // What the same repair wrote before is all that it writes.
    const record = await repairIn(path.join(journalsFolder(), `repair-${MOVE}-1.json`))
    const bytes = async () => {
      const { device, close } = await openDrive(driveBytes(await driveById(NEW)), { writable: false })
      const hash = createHash('sha256')
      for (const patch of record!.patches) hash.update(await readBytes(device, patch.offset, patch.before.length))
      await close()
      return hash.digest('hex')
    }
    /** Cuts the power at one write of `work` after the other until it comes to its end, and calls `after` each time. */
    const cutAtEach = async (work: () => Promise<void>, after: () => Promise<void>) => {
      for (let writes = 0; ; writes += STEP) {
        power.left.writes = writes
        const cut = await work().then(
          () => false,
          () => true,
        )
        power.left.writes = Infinity
        await settleRepairs(await loadMove(MOVE))
        await after()
        if (!cut) return writes
      }
    }
    const standing = async () => (await loadMove(MOVE)).row.proof!.repairs.filter((r) => !r.undone)
    const before = await bytes()
    const seen = new Set<string>()
    const cuts = await cutAtEach(
      () => ended(makeRepair(MOVE, 'take-up-room')),
      async () => {
        const [repair] = await standing()
        seen.add(repair ? 'whole' : 'taken back')
        if (repair) {
          expect(repair.name).toBe('take-up-room')
          expect(await bytes()).not.toBe(before)
          await ended(takeRepairBack(MOVE))
        }
        expect(await bytes()).toBe(before)
      },
    )
    expect(cuts).toBeGreaterThan(8)
    expect(seen).toEqual(new Set(['whole', 'taken back']))
    await ended(makeRepair(MOVE, 'take-up-room'))
    const after = await bytes()
    await cutAtEach(
      async () => {
        if ((await standing()).length === 0) {
          const { writes } = power.left
          power.left.writes = Infinity
          await ended(makeRepair(MOVE, 'take-up-room'))
          power.left.writes = writes
        }
        await ended(takeRepairBack(MOVE))
      },
      async () => expect(await bytes()).toBe((await standing()).length === 0 ? before : after),
    )
    expect(await standing()).toEqual([])
    await ended(startTrial(MOVE))
  })

  it('tells a table that is only there in its backup, and leads two steps back to the old drive', async () => {
    await switchComputer(MOVE, { do: 'shut-down' })
    const drive = await driveById(NEW)
    const opened = await openDrive(driveBytes(drive), { writable: true })
    const header = new Uint8Array(512)
    await opened.device.read(512, header)
    await opened.device.write(512, new Uint8Array(512))
    await ended(startTrial(MOVE))
    const { trial, wayBack } = await proof()
    // The backup table still tells what is where; the firmware takes it, and the chain says so.
    const table = trial!.trace.links.find((l) => l.id === 'table')
    expect(table).toMatchObject({ state: 'passed', found: 'GPT, taken from the backup copy' })
    await opened.device.write(512, header)
    await opened.close()
    expect(wayBack?.steps.map((s) => s.done)).toEqual([false, false])
    await goBack(MOVE)
    expect(await placeOf(NEW)).toEqual({ kind: 'table' })
    await goBack(MOVE)
    expect(await placeOf(OLD)).toEqual(slot('SATA 0'))
    expect(await refusalCode(goBack(MOVE))).toBe('old-drive-in-place')
    await ended(startTrial(MOVE))
    expect((await proof()).trial).toMatchObject({ subject: 'source' })
    expect(await refusalCode(handOver(MOVE))).toBe('handover-before-proof')
    await switchComputer(MOVE, { do: 'shut-down' })
    await switchComputer(MOVE, { do: 'mains', on: false })
    await placeDrive(OLD, { kind: 'shelf' }, { label: 'Ticket desk, old', until: '' })
    await placeDrive(NEW, slot('SATA 0'))
    await switchComputer(MOVE, { do: 'mains', on: true })
    await ended(startTrial(MOVE))
    expect((await proof()).trial).toMatchObject({ subject: 'target' })
  })
})

describe('the handover', () => {
  it('waits for the case, and puts a day on the old drive', async () => {
    expect(await refusalCode(handOver(MOVE))).toBe('handover-before-swap')
    await expect(sheetFile('field-laptop', 'json')).rejects.toThrow(/no sheet before/)
    for (let left = 2; left > 0; left--) {
      const { steps, done } = await swap()
      await finishStep(MOVE, { step: steps[done].id })
    }
    await handOver(MOVE, { by: 'Ilaria', day: '2026-05-06', shop: 'Molo Sette, Via del Faro 3' })
    expect((await driveById(OLD)).shelf).toEqual({ label: 'Ticket desk, old', until: '2026-05-18' })
    expect((await movePage(MOVE)).rail.every((s) => s.state === 'done')).toBe(true)
  })

  it('gives the sheet as JSON by its schema, and as PDF', async () => {
    const json = await sheetFile(MOVE, 'json')
    const sheet = SheetSchema.parse(JSON.parse(new TextDecoder().decode(json.bytes)))
    expect(sheet).toMatchObject({
      by: 'Ilaria',
      keptUntil: '18 May 2026',
      skipped: [],
      shop: 'Molo Sette, Via del Faro 3',
    })
    expect(sheet.handedOver?.day).toBe('6 May 2026')
    // The next sheet of this bench begins with the same shop.
    expect(await benchShop('molo-sette')).toBe('Molo Sette, Via del Faro 3')
    expect(sheet.partitions.map((p) => p.title)).toEqual(['EFI system', 'Reserved', 'Recovery', 'Harbour (C:)'])
    const pdf = await sheetFile(MOVE, 'pdf')
    expect(new TextDecoder().decode(pdf.bytes.subarray(0, 5))).toBe('%PDF-')
    expect(pdf.bytes.length).toBeGreaterThan(10_000)
  })

  it('is found among past moves by every word of customer, serial or computer', async () => {
    const found = async (words: string) => (await pastMoves(words)).found.map((f) => f.id)
    for (const words of ['', 'lanterna', 'CRV5-2207', 'brezza t20', 'ilaria museum'])
      expect(await found(words)).toEqual([MOVE])
    expect(await found('lanterna nobody')).toEqual([])
  })
})

describe('the shelf', () => {
  const shelved = async (id: string) => (await shelfState()).drives.find((d) => d.id === id)

  it('keeps each drive with its day, its move and where it would go', async () => {
    expect((await shelfState()).drives.map((d) => [d.id, d.days, d.mayErase])).toEqual([
      ['crh2-250', -7, true],
      [OLD, 14, false],
    ])
    expect(await shelved(OLD)).toMatchObject({ moves: [{ customer: 'Lanterna museum', handedOver: true }] })
    expect((await openingsFor(OLD)).map((o) => o.name)).toContain('ticket desk, SATA 1')
    expect((await labelView(OLD)).code).toBe(
      's/n CRV3-8841-07KD\nCorvina S3 240 GB\nLanterna museum\nkeep until 18 May 2026',
    )
  })

  it('erases by the plate only, and before the day only with a reason', async () => {
    const asked = (driveId: string, plate: string, reason = '') => ({ driveId, how: 'zeros', plate, reason })
    expect(await refused(ended(eraseDrive(asked(NEW, '4M1Q'))))).toMatch(/is not on the shelf/)
    expect(await refusalCode(ended(eraseDrive(asked(OLD, '4M1Q'))))).toBe('plate-wrong')
    expect(await refused(ended(eraseDrive(asked(OLD, '07KD'))))).toMatch(
      /kept until 18 May 2026\. To erase it before that/,
    )
    expect(await refusalCode(ended(eraseDrive(asked(OLD, '07KD', 'so what'))))).toBe('erase-early')
    await expect(ended(eraseDrive({ ...asked(OLD, '07KD'), how: 'hammer' }))).rejects.toThrow()
  })

  it('tells a drive to forget only where that promises to', async () => {
    const asked = { driveId: OLD, how: 'discard', plate: '4M1Q', reason: '' }
    const said = (await DriveRow.findByPk(OLD))!.data
    const kernel = { key: 'k', path: '/dev/sdz', device: null, serialOf: 'drive' as const, uses: [], hasTwin: false }
    for (const [forgets, code] of [
      [false, 'drive-forgets-nothing'],
      [true, 'plate-wrong'],
    ] as const) {
      await DriveRow.update({ data: { ...said, kernel: { ...kernel, forgets } } }, { where: { id: OLD } })
      expect((await shelved(OLD))!.forgets).toBe(forgets)
      expect(await refusalCode(ended(eraseDrive(asked)))).toBe(code)
    }
    await DriveRow.update({ data: said }, { where: { id: OLD } })
    expect((await shelved(OLD))!.forgets).toBe(true)
  })

  it('gives a drive back to a computer without power, and its day stays on it', async () => {
    const back = (place: unknown) => putBack({ driveId: OLD, place })
    expect(await refused(putBack({ driveId: NEW, place: slot('SATA 1') }))).toMatch(/is not on the shelf/)
    expect(await refusalCode(back({ kind: 'table' }))).toBe('back-into-slot')
    expect(await refusalCode(back(slot('SATA 1')))).toBe('computer-has-power')
    await switchComputer(MOVE, { do: 'mains', on: false })
    await back(slot('SATA 1'))
    expect(await driveById(OLD)).toMatchObject({ place: slot('SATA 1'), shelf: { until: '2026-05-18' } })
    await placeDrive(OLD, { kind: 'shelf' }, (await driveById(OLD)).shelf)
    await advance(15 * 86_400_000)
    expect(await shelved(OLD)).toMatchObject({ mayErase: true })
    expect((await benchState()).drives.filter((d) => d.place.kind === 'shelf')).toHaveLength(2)
  })
})
