import { BadStructure } from '@/core/errors'
import { CopySummarySchema } from '@/core/copy/progress'
import { closeSync, openSync, readFileSync, statSync, writeSync } from 'node:fs'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { SCENARIO_START } from '@/bench/scenario/things'
import { STATION_IDS } from '@/core/move/stations'
import { answer, jsonBody, respond, refusedFor } from './ground/answer'
import { Refusal } from './ground/refusals'
import { benchState, computerById, driveById, onDetach, placeDrive } from './world'
import { makeBench } from './world/make'
import { placesFor } from '@/core/things/places'
import { benchView } from './pages/bench'
import { boardState } from './pages/board'
import { advance, benchNow, pace, setPace } from './world/clock'
import { computerPage, switchComputer } from './world/computers'
import { commandCopy } from './stations/copy'
import { startCopy } from './stations/ready/start'
import { latestCopy } from './moves/copies'
import { database } from './database'
import { ended } from './jobs/testing'
import { CopyRow, DriveRow, MoveRow } from './database/models'
import { type BenchEvent, subscribe } from './ground/events'
import { lockFit, takeTarget, unlockFit } from './stations/fit'
import { handOver } from './stations/handover'
import { confirmIntake } from './stations/intake'
import { logbook, note } from './moves/logbook'
import { surveyOf } from './world/looked-at'
import { loadMove, moveRow } from './moves'
import { loadLeg } from './moves/legs'
import { movePage } from './moves/page'
import * as views from './stations/testing'
import { startTrial } from './stations/proof'
import { stillOff } from './moves/turned-off'
import { turnOn } from './stations/proof/after'
import { furtherCandidates, readyAction, readyState } from './stations/ready'
import { takeRoute } from './stations/route'
import { confirmSurvey, readDrives } from './stations/survey'
import { finishStep } from './stations/swap'
import { calendarDay, clockSeconds, clockTime, dayAfter, daysUntil } from './ground/words'
import { refusalCode, refused } from './ground/testing'
import { dataFolder } from '@/server/ground/paths'

const folder = dataFolder()

const MOVE = 'ticket-desk'
const target = path.join(folder, 'drives', 'crv5-960.img')
const wish = { rules: { '3': 'fill' }, sizes: {}, reserve: 0 }

beforeAll(async () => {
  await database()
  expect(await makeBench()).toBe(true)
})

afterAll(async () => {
  await (await database()).close()
})

const readyNow = async () => {
  const move = await loadMove(MOVE)
  return readyState(move, await loadLeg(move))
}

describe('the bench', () => {
  it('is made once, with every thing of the scenario', async () => {
    expect(await makeBench()).toBe(false)
    const { computers, drives, accessories } = await benchState()
    expect([computers.length, drives.length, accessories.length]).toEqual([9, 17, 7])
    // What the honey house lends has its bytes there.
    expect(drives.filter((d) => d.file === null).map((d) => d.id)).toEqual(['oss1-256'])
    expect(statSync(target).size).toBe(960_197_124_096)
  })

  it('from when some drives were only described gets their bytes', async () => {
    const old = await driveById('crh2-250')
    await DriveRow.update({ data: { ...old, file: null, health: undefined } }, { where: { id: old.id } })
    await expect(surveyOf({ kind: 'drives', id: old.id })).rejects.toThrow(/only described here/)
    expect(await makeBench()).toBe(false)
    const now = await driveById('crh2-250')
    expect([now.file, now.place, now.health]).toEqual(['crh2-250.img', old.place, old.health])
    expect((await surveyOf({ kind: 'drives', id: old.id })).scheme).toBe('mbr')
  })

  it('moves drives where they fit, tells who uses them, and says why not elsewhere', async () => {
    const gone: string[] = []
    const release = onDetach((id, what) => gone.push(`${id}: ${what}`))
    await placeDrive('crv5-960', { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 2' })
    release()
    await placeDrive('crv5-960', { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 1' })
    expect(gone).toEqual(['crv5-960: The Corvina S5 960 GB (USB dock A, bay 1)'])
    expect(await refused(placeDrive('crv3-240', { kind: 'table' }))).toMatch(/has mains power/)
    expect(await refused(placeDrive('none', { kind: 'table' }))).toMatch(/no such drive/)
    expect(await refusalCode(computerById('none'))).toBe('computer-unknown')
  })

  it('shows each drive once, and for each place whether it can go there', async () => {
    const view = await benchView()
    const berthed = [...view.computers, ...view.accessories].flatMap((q) =>
      q.berths.flatMap((b) => (b.drive ? [b.drive.id] : [])),
    )
    const all = [...berthed, ...view.table.map((d) => d.id), ...view.shelf.map((d) => d.id)]
    expect(new Set(all).size).toBe(17)
    const ways = placesFor(
      view.things.drives.find((d) => d.id === 'crv5-960')!,
      view.things,
    )
    expect(ways.find((w) => w.label === 'Cable adapter')?.why).toBeNull()
    expect(ways.find((w) => w.label === 'NVMe enclosure')?.why).toMatch(/takes M\.2/)
    expect(ways.find((w) => w.label === 'USB dock A, bay 1')).toBeUndefined()
  })
})

describe('the database', () => {
  it('takes no row that does not fit its form, and gives none back', async () => {
    const drive = await driveById('tln1-256')
    const broken = { ...drive, sizeBytes: 'large' } as unknown as typeof drive
    await expect(DriveRow.upsert({ id: 'x', benchId: 'molo-sette', data: broken })).rejects.toThrow()
    const sequelize = await database()
    await sequelize.query(`UPDATE drives SET data = '{"id":"tln1-256"}' WHERE id = 'tln1-256'`)
    const row = await DriveRow.findByPk('tln1-256')
    expect(() => row!.data).toThrow()
    await DriveRow.update({ data: drive }, { where: { id: 'tln1-256' } })
    expect(await driveById('tln1-256')).toEqual(drive)
  })
})

describe('a move whose stored state cannot be read', () => {
  it.each(['route', 'brief'])('says so on the board, and keeps nobody from the others: %s', async (column) => {
    const sequelize = await database()
    const [[{ kept }]] = (await sequelize.query(
      `SELECT ${column} AS kept FROM moves WHERE id = 'lighting-desk'`,
    )) as unknown as [[{ kept: string | null }]]
    const store = async (text: string | null) => {
      await sequelize.query(`UPDATE moves SET ${column} = :text WHERE id = 'lighting-desk'`, { replacements: { text } })
      // What is worked out from the moves is worked out anew after each change of one.
      await MoveRow.update({ position: 0 }, { where: { id: 'none' } })
    }
    await store('{"half')
    const { moves } = await boardState()
    expect(moves).toHaveLength(8)
    expect(moves.find((m) => m.id === 'lighting-desk')).toMatchObject({ tone: 'needs-you' })
    expect(moves.find((m) => m.id === 'lighting-desk')?.status).toMatch(/cannot be read/)
    expect(moves.filter((m) => /cannot be read/.test(m.status))).toHaveLength(1)
    // The move itself is refused as what it is: no fault of the request.
    expect(await answer(() => loadMove('lighting-desk').then((move) => [move.row.route, move.brief]))).toMatchObject({
      ...{ ok: false, code: 'stored-damaged', parameters: { column }, status: 409 },
    })
    await store(kept)
    expect((await boardState()).moves.filter((m) => /cannot be read/.test(m.status))).toEqual([])
  })
})

describe('bench time', () => {
  it('begins on the morning of the scenario and only goes on', async () => {
    const first = await benchNow()
    expect(calendarDay(first)).toBe('4 May 2026')
    expect(first).toBeGreaterThanOrEqual(SCENARIO_START)
    await advance(3_600_000)
    expect(await benchNow()).toBeGreaterThanOrEqual(first + 3_600_000)
    await advance(-1000)
    expect(await benchNow()).toBeGreaterThanOrEqual(first + 3_600_000)
    expect(await pace()).toBe('30')
    await setPace('max')
    expect(await pace()).toBe('max')
  })

  it('is said without zones', () => {
    const at = Date.UTC(2026, 4, 4, 23, 5, 9)
    expect([clockTime(at), clockSeconds(at), calendarDay(at)]).toEqual(['23:05', '23:05:09', '4 May 2026'])
    expect(dayAfter(at, 14)).toBe('2026-05-18')
    expect([daysUntil(at, '2026-05-18'), daysUntil(at, '2026-05-05'), daysUntil(at, '2026-04-27')]).toEqual([14, 1, -7])
  })
})

describe('the stations', () => {
  it('refuse whatever is ahead of its turn, each with a sentence', async () => {
    expect(await refusalCode(ended(readDrives(MOVE)))).toBe('no-intake')
    expect(await refusalCode(confirmSurvey(MOVE))).toBe('no-survey')
    expect(await refusalCode(takeRoute(MOVE, { plan: '' }))).toBe('survey-unconfirmed')
    expect(await refusalCode(lockFit(MOVE, { wish }))).toBe('no-route')
    expect(await refusalCode(startCopy(MOVE, { plate: '4M1Q' }))).toBe('no-locked-fit')
    expect(await refusalCode(commandCopy(MOVE, { command: 'stop' }))).toBe('copy-not-running')
    expect(await refusalCode(finishStep(MOVE, { step: 'shut-down' }))).toBe('swap-before-fit')
    expect(await refused(ended(startTrial(MOVE)))).toMatch(/Survey first/)
    expect(await refusalCode(handOver(MOVE))).toBe('handover-before-proof')
    expect(await refusalCode(moveRow('../etc'))).toBe('move-unknown')
  })

  it('take a move on one after the other and show it on the rail', async () => {
    const states = async () => (await movePage(MOVE)).rail.map((stop) => stop.state)
    const at = (n: number) => STATION_IDS.map((_, i) => (i < n ? 'done' : i === n ? 'current' : 'ahead'))
    expect(await states()).toEqual(at(0))
    await ended(confirmIntake(MOVE))
    expect(await states()).toEqual(at(1))
    await ended(readDrives(MOVE))
    await confirmSurvey(MOVE)
    expect(await states()).toEqual(at(2))
    const [first] = (await views.routeView(await movePage(MOVE))).plans
    await takeRoute(MOVE, { plan: first.id })
    expect(await states()).toEqual(at(3))
    await lockFit(MOVE, { wish })
    const { rail } = await movePage(MOVE)
    expect(rail.map((stop) => stop.state)).toEqual(at(4))
    expect(rail.slice(0, 4).map((stop) => stop.note)).toEqual([
      'more room',
      '2 drives read',
      'new drive outside, 1 leg',
      'C: to 893.5 GiB',
    ])
  })

  it('lock what the solver gives and nothing else', async () => {
    expect(await refused(lockFit(MOVE, { wish: { rules: { '3': 'set' }, sizes: { '3': 5e12 }, reserve: 0 } }))).toMatch(
      /does not fit/,
    )
    for (const bad of [
      {},
      { wish: { rules: { '3': 'huge' }, sizes: {}, reserve: 0 } },
      { wish: { ...wish, reserve: 3 } },
      { wish: { ...wish, sizes: { '3': -1 } } },
    ]) {
      const result = await answer(() => lockFit(MOVE, bad))
      expect(!result.ok && result.status).toBe(400)
    }
    const { layout } = (await moveRow(MOVE)).fit!.pairs[0]!
    expect(layout.partitions.map((p) => p.lastLba)).toEqual([206_847, 239_615, 1_874_053_119, 1_875_384_319])
    // A source, a drive of another move and one that is not there are no targets.
    for (const driveId of ['crv3-240', 'tln1-256', 'none']) {
      expect(await refused(takeTarget(MOVE, { pair: 0, driveId }))).toMatch(/[a-z]\.$/)
    }
    expect(await refusalCode(takeTarget(MOVE, { pair: 7, driveId: 'lmt4-4000' }))).toBe('drive-not-of-move')
    await unlockFit(MOVE)
    expect((await moveRow(MOVE)).fit).toMatchObject({ pairs: [null], earlier: [{ pair: 0, wish }] })
    await lockFit(MOVE, { wish })
  })

  it('write no further drive that is out of reach, of another size, or another’s', async () => {
    const said = async (further: string[]) => {
      await readyAction(MOVE, { action: 'choose', choices: { further } })
      return (await readyNow()).items.filter((i) => i.id.startsWith('further-')).map((i) => `${i.state}: ${i.title}`)
    }
    const offered = async () => {
      const move = await loadMove(MOVE)
      return (await furtherCandidates(move, await loadLeg(move))).map((d) => d.id)
    }
    const resize = async (id: string, sizeBytes: number) =>
      DriveRow.update({ data: { ...(await driveById(id)), sizeBytes } }, { where: { id } })
    expect(await said(['tln1-256'])).toEqual(['blocks: The Tellina T1 256 GB is not connected.'])
    await placeDrive('tln1-256', { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 2' })
    expect(await said(['tln1-256'])).toEqual(['blocks: The Tellina T1 256 GB is of another size.'])
    // As large as the target, it is still the drive of another move; and one inside another computer is out of reach.
    const [{ sizeBytes: small }, { sizeBytes: blade }] = [await driveById('tln1-256'), await driveById('lmb1-256')]
    const { sizeBytes } = await driveById('crv5-960')
    await resize('tln1-256', sizeBytes)
    await resize('lmb1-256', sizeBytes)
    expect(await said(['tln1-256', 'lmb1-256'])).toEqual([
      expect.stringMatching(/^blocks: The Tellina T1 960 GB is the target of another move: Lighting desk/),
      'blocks: The Lampara B1 960 GB is not connected.',
    ])
    expect(await offered()).toEqual([])
    const choir = await driveById('crh2-250')
    await DriveRow.update({ data: { ...choir, sizeBytes, shelf: undefined } }, { where: { id: choir.id } })
    await placeDrive('tln1-256', { kind: 'table' })
    await placeDrive('crh2-250', { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 2' })
    expect(await offered()).toEqual(['crh2-250'])
    await resize('tln1-256', small)
    await resize('lmb1-256', blade)
    await DriveRow.update({ data: choir }, { where: { id: choir.id } })
    expect(await said([])).toEqual([])
  })

  it('settle what is open, one thing at a time', async () => {
    const open = async () => (await readyNow()).items.filter((i) => i.state !== 'settled').map((i) => i.id)
    expect(await open()).toEqual(['not-running'])
    expect(await refused(startCopy(MOVE, { plate: '4M1Q' }))).toMatch(
      /cannot start yet: The ticket desk is running its own system/,
    )
    await readyAction(MOVE, { action: 'start-stick' })
    expect(await open()).toEqual([])
    await placeDrive('crv5-960', { kind: 'bay', accessoryId: 'cable-adapter', bay: 'plug' })
    expect(await open()).toEqual(['route-holds'])
    await placeDrive('crv5-960', { kind: 'table' })
    expect(await open()).toEqual(['target-same'])
    await placeDrive('crv5-960', { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 1' })
    expect(await open()).toEqual([])
    // A plate is typed for the drives as they were shown; without that, or with what was shown before, it counts for nothing.
    expect(await refusalCode(startCopy(MOVE, { plate: '4M1Q' }))).toBe('copy-drives-changed')
    expect(await refusalCode(startCopy(MOVE, { plate: '4M1Q', seen: 'of another day' }))).toBe('copy-drives-changed')
    const { seen } = await readyNow()
    expect(await refusalCode(startCopy(MOVE, { plate: '07KD', seen }))).toBe('plate-wrong')
  })

  it('notice a target that another program has written to', async () => {
    const file = openSync(target, 'r+')
    const before = readFileSync(`${target}.map`)
    writeSync(file, Buffer.from('EFI PART'), 0, 8, 512)
    expect(await refused(startCopy(MOVE, { plate: '4M1Q' }))).toMatch(/has changed since it was surveyed/)
    writeSync(file, Buffer.alloc(8), 0, 8, 512)
    closeSync(file)
    expect(readFileSync(`${target}.map`).equals(before)).toBe(true)
  })

  it('follow a start of the old drive and say whose it is', async () => {
    await ended(startTrial(MOVE))
    const { trial } = await views.proofView(await movePage(MOVE))
    expect(trial).toMatchObject({ number: 1, subject: 'source', drive: 'Corvina S3 240 GB', checks: [] })
    expect(trial!.trace.starts).toBe(true)
    expect((await computerById(MOVE)).running).toBe('system')
    expect(await refusalCode(handOver(MOVE))).toBe('handover-before-proof')
  })

  it('keep what was turned off for the copy in mind until it is on again', async () => {
    for (const input of [{ action: 'close-program', of: 'sync' }, { action: 'go-offline' }, { action: 'no-sleep' }])
      await readyAction(MOVE, input)
    const off = async () => stillOff(await loadMove(MOVE)).map((o) => o.title)
    expect(await off()).toEqual(['Museum file sync', 'Network', 'Sleep'])
    await switchComputer(MOVE, { do: 'network', on: true })
    expect(await off()).toEqual(['Museum file sync', 'Sleep'])
    await turnOn(MOVE, undefined)
    expect(await off()).toEqual([])
    expect((await computerById(MOVE)).sleepMinutes).toBe(30)
    expect(await refusalCode(turnOn(MOVE, undefined))).toBe('nothing-turned-off')
  })

  it('open a firmware’s settings only at power-on, and take none that contradict themselves', async () => {
    const { firmware } = await computerById(MOVE)
    const { secureBoot, trustedSigners, bootEntries, bootOrder, driveOrder } = firmware
    const settings = { secureBoot, trustedSigners, bootEntries, bootOrder, driveOrder }
    const change = (changes: Partial<typeof settings>) =>
      switchComputer(MOVE, { do: 'firmware', settings: { ...settings, ...changes } })
    expect(await refused(change({ secureBoot: false }))).toMatch(/shut the ticket desk down first/)
    await switchComputer(MOVE, { do: 'shut-down' })
    expect(await refusalCode(switchComputer(MOVE, { do: 'network', on: false }))).toBe('computer-not-running')
    expect(await refusalCode(change({ bootOrder: ['00FF'] }))).toBe('boot-entry-unknown')
    expect(await refusalCode(change({ driveOrder: ['SATA 9'] }))).toBe('drive-order-unknown')
    await change({ secureBoot: false, bootEntries: [], bootOrder: [] })
    const { menu } = await computerPage(MOVE)
    expect(menu.map((line) => [line.id, line.here])).toEqual([['slot:SATA 0', true]])
    await switchComputer(MOVE, { do: 'start', choice: 'slot:SATA 0' })
    expect((await computerById(MOVE)).running).toBe('system')
    expect(await refused(switchComputer(MOVE, { do: 'start' }))).toMatch(/running already/)
    await switchComputer(MOVE, { do: 'shut-down' })
    await change({})
    expect((await computerById(MOVE)).firmware).toEqual(firmware)
    await switchComputer(MOVE, { do: 'start', choice: 'entry:0003' })
    await switchComputer(MOVE, { do: 'mains', on: false })
    expect(await refusalCode(switchComputer(MOVE, { do: 'start' }))).toBe('computer-no-mains')
    await switchComputer(MOVE, { do: 'mains', on: true })
  })

  it('give every page its view', async () => {
    const page = await movePage(MOVE)
    expect((await views.intakeView(page)).computer.slots).toEqual([
      { id: 'SATA 0', takes: '2.5-inch SATA', holds: 'Corvina S3 240 GB' },
      { id: 'SATA 1', takes: '2.5-inch SATA', holds: null },
    ])
    expect(views.surveyView(page).pairs[0].read?.source.partitions).toHaveLength(4)
    expect((await views.routeView(page)).plans.length).toBeGreaterThan(3)
    expect((await views.fitView(page)).pairs[0].locked?.wish).toEqual(wish)
    expect((await views.readyView(page)).platePrefix).toBe('CRV5-2207-')
    expect(views.swapView(page)).toMatchObject({ steps: [], beforeLeg: { number: 1, of: 1 } })
    expect(await refusalCode(finishStep(MOVE, { step: 'shut-down' }))).toBe('swap-before-copy')
    expect(await views.handoverView(page)).toBeUndefined()
    expect(page.copy).toBeUndefined()
  })

  it('stand on the board with what they wait for', async () => {
    const { moves, shelf, berths } = await boardState()
    expect(moves.map((m) => m.tone)).toEqual(Array(8).fill('needs-you'))
    expect(moves[0].status).toBe('Needs you: settle what is open')
    expect(shelf).toEqual([{ name: 'Choir, old', due: 'may be erased', past: true }])
    expect(berths.find((b) => b.name === 'USB dock A, bay 1')?.holds).toBe('Corvina S5 960 GB')
  })
})

describe('a copy that a stopped server left behind', () => {
  it('is found and said to be cut off', async () => {
    const row = {
      moveId: MOVE,
      leg: 0,
      linkKey: null,
      throughputRatio: null,
      startedAt: 1,
      endedAt: null,
      message: null,
      progress: null,
      summary: null,
      choices: null,
      resumable: false,
      verifyFailed: false,
    }
    await CopyRow.create({ id: 'left', status: 'running', ...row })
    // What is remembered of this process is that it has looked already: look as a new one would.
    delete (globalThis as unknown as Record<symbol, unknown>)[Symbol.for('imbarco.copy-recovery')]
    const copy = await latestCopy(MOVE)
    expect(copy?.status).toBe('interrupted')
    expect(copy?.message).toMatch(/server stopped in the middle.*source is untouched/)
    expect((await boardState()).moves[0].status).toBe('Needs you: the copy was cut off')
    await CopyRow.destroy({ where: { id: 'left' } })
    // Of a copy that was whole only another pass over its lost sectors was cut off.
    const summary = CopySummarySchema.parse({
      ...{ copiedBytes: 10, writtenBytes: 10, checkedBytes: 0, digest: '', bufferBytes: 1 },
      ...{ copySeconds: 1, checkSeconds: 0, partitions: [] },
    })
    await CopyRow.create({ id: 'retried', status: 'running', ...row, summary })
    delete (globalThis as unknown as Record<symbol, unknown>)[Symbol.for('imbarco.copy-recovery')]
    expect(await latestCopy(MOVE)).toMatchObject({ status: 'done', message: null })
    const { rail } = await movePage(MOVE)
    expect(rail.find((stop) => stop.id === 'copy')?.note).toMatch(/not read back/)
    await CopyRow.destroy({ where: { id: 'retried' } })
  })
})

describe('the logbook', () => {
  it('keeps what happened, newest first, with bench times that do not go back', async () => {
    await note(MOVE, 'one')
    await note(MOVE, 'two', 'good')
    const lines = await logbook(MOVE, 2)
    expect(lines.map((l) => [l.text, l.tone])).toEqual([
      ['two', 'good'],
      ['one', 'plain'],
    ])
    const all = await logbook(undefined, 100)
    expect(all.every((line, i) => i === 0 || line.at <= all[i - 1].at)).toBe(true)
  })

  it('is told to pages as it changes', async () => {
    const events: BenchEvent[] = []
    const release = subscribe((event) => events.push(event))
    await readyAction(MOVE, { action: 'when-done', whenDone: 'power-off' })
    release()
    await readyAction(MOVE, { action: 'when-done', whenDone: 'stay' })
    expect(events).toEqual([{ type: 'changed', moveId: MOVE }])
    expect((await MoveRow.findByPk(MOVE))!.ready).toMatchObject({
      backupWaived: false,
      whenDone: 'stay',
      acknowledged: {},
    })
  })
})

describe('what goes wrong', () => {
  it('reaches people as a sentence, and programs as a status', async () => {
    expect(refusedFor(new Refusal('image-unknown', { name: 'a.img' }))).toEqual({
      code: 'image-unknown',
      parameters: { name: 'a.img' },
      sentence: expect.stringMatching(/ a\.img .*\.$/),
      status: 404,
    })
    expect(refusedFor(new BadStructure('GPT header', 512, 'it is empty'))).toMatchObject({
      code: 'bad-structure',
      parameters: { structure: 'GPT header', offset: 512 },
      status: 409,
    })
    const inside = refusedFor(new TypeError('x is not a function'))
    expect(inside.status).toBe(500)
    expect(inside.sentence).not.toMatch(/function/)
    const response = respond(await answer(async () => Promise.reject(new Refusal('move-unknown'))))
    expect([response.status, await response.json()]).toMatchObject([404, { ok: false, code: 'move-unknown' }])
  })

  it('in a body is told before anything is done', async () => {
    const body = (text: string) => jsonBody(new Request('http://localhost', { method: 'POST', body: text }))
    expect(await body('{"a":1}')).toEqual({ a: 1 })
    expect(await refusalCode(body('{'))).toBe('request-not-json')
    expect(await refused(body(`"${'x'.repeat(1_000_001)}"`))).toMatch(/too long/)
  })
})
