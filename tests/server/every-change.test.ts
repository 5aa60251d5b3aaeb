import { copyFileSync, cpSync, mkdirSync, readFileSync, readdirSync, rmSync, statSync, writeFileSync } from 'node:fs'
import path from 'node:path'
import { isDeepStrictEqual } from 'node:util'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

import * as actions from '@/app/actions'
import { POST as placeDrive } from '@/app/api/bench/drives/[id]/place/route'
import { POST as importBench } from '@/app/api/benches/import/route'
import { POST as putImageOnBench } from '@/app/api/images/bench/route'
import { DELETE as deleteImage } from '@/app/api/images/files/[name]/route'
import { POST as startImageJob } from '@/app/api/images/jobs/route'
import { DELETE as stopJob } from '@/app/api/jobs/[id]/route'
import { POST as postLent } from '@/app/api/lent/route'
import { POST as changeCopy } from '@/app/api/moves/[id]/copy/route'
import type { CopyStatus } from '@/core/copy/view'
import { database } from '@/server/database'
import { BenchRow, CopyRow, DriveRow, JobRow, MoveRow } from '@/server/database/models'
import { inTransaction } from '@/server/database/transaction'
import { borrowedState } from '@/server/pages/lent/borrow'
import { lentNow } from '@/server/pages/lent/now'
import { dataFolder, drivesFolder, imagesFolder, journalsFolder } from '@/server/ground/paths'
import { jobEnd, runningJobs } from '@/server/jobs'
import { leasableDrive, takeLease } from '@/server/leases'
import { moveRow } from '@/server/moves'
import { running } from '@/server/moves/copies'
import { movePage } from '@/server/moves/page'
import { boardState } from '@/server/pages/board'
import { isPreparing } from '@/server/pages/series/prepare'
import * as views from '@/server/stations/testing'
import { benchState, driveById } from '@/server/world'
import { importBench as importBenchFile } from '@/server/world/benches'
import { openDemoBench } from '../support/open-demo-bench'
import { deep } from '@/core/testing'

const folder = dataFolder()

// Some hundred changes in each state, three times each.
vi.setConfig({ testTimeout: 400_000 })

const MOVE = 'ticket-desk'
const OLD = 'crv3-240'
const NEW = 'crv5-960'
const ON_SHELF = 'crh2-250'
const SPARE = 'Spare bench'

interface Outcome {
  readonly done: boolean
  readonly status: number
  readonly code?: string
  readonly sentence?: string
  readonly job?: string
}

/** A change that can be asked for, and whether asking for it twice is a mistake. */
interface Change {
  readonly ask: () => Promise<Outcome>
  readonly once?: boolean
  /** What has to be there for it. */
  readonly before?: () => Promise<unknown>
}

type ActionName = keyof typeof actions

async function byAction(name: ActionName, ...of: unknown[]): Promise<Outcome> {
  const action = actions[name] as (...of: unknown[]) => ReturnType<typeof actions.confirmIntake>
  const answer = await action(...of)
  if (!answer.ok) return { done: false, ...answer }
  return { done: true, status: 200, job: (answer.value as { job?: string } | undefined)?.job }
}

/** Other things than jobs have ids, too. */
const jobIsKnown = (id: string) => /^[0-9a-f]{8}-/.test(id)

async function byRoute(response: Promise<Response>): Promise<Outcome> {
  const { status } = await response
  const body = (await (await response).json()) as { ok: boolean; code?: string; sentence?: string; value?: unknown }
  const job = (body.value as { id?: string } | null)?.id
  return { done: body.ok, status, code: body.code, sentence: body.sentence, ...(job && jobIsKnown(job) ? { job } : {}) }
}

const request = (body: unknown) => new Request('http://127.0.0.1/', { method: 'POST', body: JSON.stringify(body) })
const at = <T extends object>(of: T) => ({ params: Promise.resolve(of) })
const route = (handler: (request: Request, context: never) => Promise<Response>, body: unknown, of: object = {}) =>
  byRoute(handler(request(body), at(of) as never))

const swapNow = async () => views.swapView(await movePage(MOVE))
/** The step of the swap that is next; none before there is a route. */
const nextStep = async () => {
  if (!(await moveRow(MOVE)).route) return 'none'
  const { steps, done } = await swapNow()
  return steps[done]?.id ?? 'none'
}
const WISH = { rules: { '3': 'fill' }, sizes: {}, reserve: 0 }
const BENCH_FILE = {
  ...{ format: 'imbarco bench', version: 1, name: 'A bench from a file' },
  ...{ computers: [], accessories: [], drives: [] },
}
const BLANK = {
  ...{ from: 'blank', kind: 'sata-ssd', model: 'Corvina S1', serial: 'CRV1-7777-AB12' },
  ...{ sizeBytes: 2 ** 30, logicalSectorSize: 512, purpose: 'customer' },
}

/** Every change that a page or a script can ask for, by action or route. */
function changes(): Record<string, Change> {
  const ofMove = (name: ActionName, ...of: unknown[]) => ({ ask: () => byAction(name, MOVE, ...of) })
  const ready = (action: string, more: object = {}) => ofMove('settle', { action, ...more })
  const copy = (body: unknown) => ({ ask: () => route(changeCopy, body, { id: MOVE }), once: true })
  const move = async () => (await moveRow(MOVE)).brief
  return {
    confirmIntake: ofMove('confirmIntake'),
    newMove: {
      ask: async () => byAction('newMove', (await moveRow('lighting-desk')).brief),
      before: async () =>
        MoveRow.update({ standing: { kind: 'given-up', at: 0, why: 'a test' } }, { where: { id: 'lighting-desk' } }),
      once: true,
    },
    newSeries: {
      ask: () =>
        byAction('newSeries', {
          ...{ name: 'Desks', customer: 'Lanterna museum', from: { image: 'loose.img' } },
          members: [{ computerId: 'lighting-desk', targetId: 'crv1-7777-ab12' }],
        }),
      before: () => actions.addDrive(BLANK),
      once: true,
    },
    prepareAgain: { ask: () => byAction('prepareAgain', { series: 'none', move: MOVE }) },
    lend: {
      ask: () => byAction('lend', { subject: { kind: 'images', id: 'loose.img' }, address: '127.0.0.1' }),
      once: true,
    },
    answerBorrower: { ask: () => byAction('answerBorrower', { lent: 'none', peer: '127.0.0.1', yes: true }) },
    takeLoanBack: { ask: () => byAction('takeLoanBack', { lent: 'none', peer: '127.0.0.1' }) },
    endLending: { ask: () => byAction('endLending', { lent: 'none' }) },
    borrow: { ask: () => byAction('borrow', { address: 'nbd://192.0.2.7/disk' }), once: true },
    endBorrowing: { ask: () => byAction('endBorrowing', { id: 'none' }) },
    askAgain: { ask: () => byAction('askAgain', { driveId: MOVE }) },
    giveBack: { ask: () => byAction('giveBack', { driveId: MOVE }) },
    'POST lent': {
      ask: () => route(postLent, { subject: { kind: 'images', id: 'loose.img' }, address: '127.0.0.1' }),
      once: true,
    },
    writeTogether: {
      ask: () =>
        byAction('writeTogether', {
          series: 'none',
          members: [MOVE, 'lighting-desk'].map((move) => ({ move, plate: '0000', seen: '' })),
        }),
      once: true,
    },
    setAside: { ask: () => byAction('setAside', { series: 'none', move: MOVE }), once: true },
    changeMove: {
      ask: async () => byAction('changeMove', MOVE, { ...(await move()), reason: 'failing drive' }),
    },
    measureAgain: { ...ofMove('measureAgain'), once: true },
    newBench: { ask: () => byAction('newBench', 'A new bench'), once: true },
    showBench: { ask: () => byAction('showBench', 'molo-sette') },
    renameBench: { ask: () => byAction('renameBench', 'Under the roof') },
    removeBench: {
      ask: () => byAction('removeBench', SPARE),
      before: async () => actions.showBench((await BenchRow.findOne({ where: { name: SPARE } }))!.id),
      once: true,
    },
    saveComputer: {
      ask: async () =>
        byAction(
          'saveComputer',
          (await benchState()).computers.find((c) => c.id === MOVE),
        ),
    },
    saveAccessory: {
      ask: async () =>
        byAction(
          'saveAccessory',
          (await benchState()).accessories.find((a) => a.id === 'dock-a'),
        ),
    },
    addDrive: { ask: () => byAction('addDrive', BLANK), once: true },
    changeDrive: { ask: async () => byAction('changeDrive', await driveById(NEW)) },
    removeThing: {
      ask: () => byAction('removeThing', { kind: 'drive', id: 'crv1-7777-ab12' }),
      before: () => actions.addDrive(BLANK),
      once: true,
    },
    setPower: { ask: () => byAction('setPower', { computerId: MOVE, mains: false }) },
    readDrives: { ...ofMove('readDrives'), once: true },
    confirmSurvey: ofMove('confirmSurvey'),
    takeRoute: {
      async ask() {
        const plans = await views.routeView(await movePage(MOVE)).catch(() => undefined)
        return byAction('takeRoute', MOVE, plans?.plans[0]?.id ?? 'none')
      },
    },
    lockFit: ofMove('lockFit', { wish: WISH }),
    makeRoom: ofMove('makeRoom', { neighbour: 3, plate: '4M1Q' }),
    giveRoomBack: ofMove('giveRoomBack'),
    takeTarget: ofMove('takeTarget', { pair: 0, driveId: 'crv5-960' }),
    unlockFit: ofMove('unlockFit'),
    'settle start-stick': ready('start-stick'),
    'settle start-system': ready('start-system'),
    'settle plug-in': ready('plug-in'),
    'settle look-again': ready('look-again'),
    'settle waive-backup': ready('waive-backup'),
    'settle close-program': ready('close-program', { of: 'till' }),
    'settle go-offline': ready('go-offline'),
    'settle no-sleep': ready('no-sleep'),
    'settle skip-page-files': ready('skip-page-files'),
    'settle check-maps': ready('check-maps'),
    'settle skip-map-check': ready('skip-map-check'),
    'settle take-every': ready('take-every'),
    'settle reset-later': ready('reset-later'),
    'settle choose': ready('choose', { choices: { tries: 4 } }),
    'settle skip': ready('skip', { item: 'backup', reason: 'the customer has one' }),
    'settle when-done': ready('when-done', { whenDone: 'power-off' }),
    finishStep: {
      ask: (
        (step?: Promise<string>) => async () =>
          byAction('finishStep', MOVE, await (step ??= nextStep()))
      )(),
      once: true,
    },
    untickStep: ofMove('untickStep'),
    tickScrews: {
      ask: async () => byAction('tickScrews', MOVE, { step: await nextStep(), group: 0, count: 1 }),
    },
    makeRepair: { ...ofMove('makeRepair', 'old-letters'), once: true },
    takeRepairBack: { ...ofMove('takeRepairBack'), once: true },
    repairSubject: {
      ask: () => byAction('repairSubject', { subject: { kind: 'drives', id: NEW }, repair: 'point-store' }),
    },
    undoSubjectRepair: { ask: () => byAction('undoSubjectRepair', { subject: { kind: 'images', id: 'loose.img' } }) },
    moveSystem: {
      ask: () =>
        byAction('moveSystem', {
          subject: { kind: 'images', id: 'loose.img' },
          kind: 'sata-ssd',
          computer: { from: 'new', name: 'Attic PC', mode: 'uefi', memoryGib: 8 },
          target: { from: 'new', kind: 'sata-ssd', serial: 'ATT1-0001', sizeBytes: 2 ** 30 },
          ...{ name: 'Attic PC', customer: 'not named yet' },
        }),
      once: true,
    },
    startTrial: { ...ofMove('startTrial'), once: true },
    // Where an emulator is installed, it finds no such drive.
    startEmulated: {
      ask: () => byAction('startEmulated', { subject: { kind: 'drives', id: 'none' }, firmware: 'bios' }),
    },
    tellEmulated: { ask: () => byAction('tellEmulated', { subject: { kind: 'drives', id: 'none' }, came: true }) },
    tellStart: ofMove('tellStart', { starts: true }),
    turnOn: ofMove('turnOn'),
    goBack: ofMove('goBack'),
    takeFirstStartStep: ofMove('takeFirstStartStep', { step: 'power-off' }),
    switchComputer: { ask: () => byAction('switchComputer', MOVE, { do: 'mains', on: true }) },
    handOver: ofMove('handOver', { by: 'Ilaria' }),
    putBack: {
      ask: () => byAction('putBack', { driveId: ON_SHELF, place: { kind: 'slot', computerId: MOVE, slot: 'SATA 1' } }),
      once: true,
    },
    eraseDrive: {
      async ask() {
        const { serial } = await driveById(ON_SHELF)
        const plate = serial.replace(/\W/g, '').slice(-4)
        return byAction('eraseDrive', {
          driveId: ON_SHELF,
          how: 'discard',
          plate,
          reason: 'the customer asked for it',
        })
      },
      once: true,
    },
    setPace: { ask: () => byAction('setPace', '1') },
    renameMove: ofMove('renameMove', { name: 'Ticket office', customer: 'Lanterna museum' }),
    putOffMove: ofMove('putOffMove', { why: 'the customer is at sea' }),
    takeUpMove: { ...ofMove('takeUpMove'), once: true },
    giveUpMove: { ...ofMove('giveUpMove', { why: 'the computer was stolen' }), once: true },
    'POST copy': copy({ plate: '4M1Q', seen: 'of another day' }),
    'POST copy go-on': copy({ command: 'go-on' }),
    'POST copy retry-lost': copy({ command: 'retry-lost' }),
    'POST place': {
      ask: () => route(placeDrive, { place: { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 2' } }, { id: ON_SHELF }),
    },
    'POST benches/import': { ask: () => route(importBench, BENCH_FILE) },
    'POST images/bench': { ask: () => route(putImageOnBench, { image: 'loose.img' }), once: true },
    'POST images/jobs convert': {
      ask: () => route(startImageJob, { kind: 'convert', input: 'loose.img', output: 'made.qcow2', to: 'qcow2' }),
      once: true,
    },
    'POST images/jobs capture': {
      ask: () =>
        route(startImageJob, {
          kind: 'capture',
          driveId: ON_SHELF,
          output: 'shelf.qcow2',
          to: 'qcow2',
          usedOnly: true,
        }),
      once: true,
    },
    'POST images/jobs compact': { ask: () => route(startImageJob, { kind: 'compact', input: 'loose.img' }) },
    'POST images/jobs verify': { ask: () => route(startImageJob, { kind: 'verify', input: 'loose.img' }) },
    'POST images/jobs compare': {
      ask: () =>
        route(startImageJob, {
          kind: 'compare',
          a: { kind: 'images', id: 'loose.img' },
          b: { kind: 'images', id: 'kiosk, table damaged.img' },
        }),
    },
    'DELETE images/files': {
      ask: () => byRoute(deleteImage(request({}), at({ name: 'loose.img' }))),
      once: true,
    },
    'DELETE jobs': { ask: () => byRoute(stopJob(request({}), at({ id: runningJobs()[0]?.id ?? 'none' }))) },
  }
}

/** What asks nothing of the state of a move: benches, things and images that are none of its own. */
const ASIDE =
  /^(newMove|newSeries|prepareAgain|setAside|writeTogether|lend|POST lent|borrow|endBorrowing|askAgain|giveBack|answerBorrower|takeLoanBack|endLending|(new|show|rename|remove)Bench|save|addDrive|removeThing|moveSystem|repairSubject|undoSubject|startEmulated|tellEmulated|setPace|POST (benches|images)|DELETE images)/
/** States in which that is tried, too, besides in the long runs. */
const TRIED_ASIDE = ['new', 'copying']
/** States that only the long runs try, since what they allow is allowed in one beside them. */
const BETWEEN = ['taken in', 'survey confirmed', 'in the swap', 'swapped']

const TABLES = [
  ...['benches', 'computers', 'accessories', 'drives', 'moves', 'series', 'copies', 'jobs', 'log_entries', 'clock'],
]

type Kept = { rows: Map<string, Record<string, unknown>[]>; files: Map<string, readonly string[]> }

async function rowsNow(): Promise<Kept['rows']> {
  const sequelize = await database()
  const rows: Kept['rows'] = new Map()
  for (const table of TABLES) {
    const [found] = await sequelize.query(`SELECT * FROM ${table}`)
    rows.set(table, found as Record<string, unknown>[])
  }
  return rows
}

/** The state of the bench as it is now, to come back to. */
async function keep(): Promise<Kept> {
  const rows = await rowsNow()
  const files = new Map([drivesFolder(), imagesFolder()].map((of) => [of, readdirSync(of)]))
  // A move that is given up lets go of its journal. One that is being written stays as it is.
  if (running().size === 0) cpSync(journalsFolder(), path.join(folder, 'journals-kept'), { recursive: true })
  return { rows, files }
}

async function bringBack({ rows, files }: Kept): Promise<void> {
  for (const lent of lentNow().keys()) await actions.endLending({ lent })
  for (const { id } of (await borrowedState()).asked) await actions.endBorrowing({ id })
  const sequelize = await database()
  const live = running().get(MOVE)?.id
  const now = await rowsNow()
  await inTransaction(async () => {
    for (const [table, of] of rows) {
      if (isDeepStrictEqual(now.get(table), of)) continue
      await sequelize.query(`DELETE FROM ${table}`)
      for (const row of of) {
        const names = Object.keys(row)
        await sequelize.query(
          `INSERT INTO ${table} (${names.map((n) => `"${n}"`).join()}) VALUES (${names.map(() => '?').join()})`,
          { replacements: Object.values(row) },
        )
      }
    }
  })
  // What is kept by the state of the rows is read again.
  for (const model of [MoveRow, CopyRow, DriveRow])
    await (model as typeof MoveRow).update({ id: 'none' }, { where: { id: 'none' } })
  for (const [of, names] of files)
    for (const name of readdirSync(of)) if (!names.includes(name)) rmSync(path.join(of, name), { force: true })
  if (running().size === 0) cpSync(path.join(folder, 'journals-kept'), journalsFolder(), { recursive: true })
  copyFileSync(path.join(folder, 'loose.img'), path.join(imagesFolder(), 'loose.img'))
  expect(running().get(MOVE)?.id).toBe(live)
}

const settled = async () => {
  await vi.waitUntil(() => !isPreparing(), { timeout: 60_000, interval: 10 })
  for (const { id } of runningJobs()) await jobEnd(id)
}

/** What is true of every bench, whatever was asked of it. */
async function refuseDisorder(about: string): Promise<void> {
  for (const { id } of await BenchRow.findAll()) {
    const bench = await benchState(id)
    const places = bench.drives.map((d) => d.place).filter((p) => p.kind === 'slot' || p.kind === 'bay')
    expect(new Set(places.map((p) => JSON.stringify(p))).size, `${about}: one drive in one place`).toBe(places.length)
    for (const place of places) {
      const there =
        place.kind === 'slot'
          ? bench.computers.find((c) => c.id === place.computerId)?.slots.some((s) => s.id === place.slot)
          : bench.accessories.some((a) => a.id === place.accessoryId)
      expect(there, `${about}: a drive is where there is a place`).toBe(true)
    }
    for (const { file } of bench.drives) if (file) expect(readdirSync(drivesFolder()), about).toContain(file)
    expect(await DriveRow.count({ where: { benchId: id } }), `${about}: every drive can be read`).toBe(
      bench.drives.length,
    )
  }
  expect((await BenchRow.findAll()).filter((b) => b.active).length, `${about}: one bench is shown`).toBe(1)
  const moves = (await MoveRow.findAll()).filter((m) => !m.handover && m.standing?.kind !== 'given-up')
  const targets = moves.flatMap((m) => m.brief.pairs.flatMap((p) => p.targetId ?? []))
  expect(new Set(targets).size, `${about}: a target is of one move`).toBe(targets.length)
  const live = [...running().values()].map((c) => c.id)
  const said = (await CopyRow.findAll()).filter((c) => c.status === 'running' || c.status === 'paused').map((c) => c.id)
  expect(said, `${about}: what is said to run does`).toEqual(live)
  expect(await JobRow.count({ where: { state: 'running' } }), `${about}: no job is left running`).toBe(0)
  expect(
    readdirSync(imagesFolder()).filter((name) => name.startsWith('.')),
    `${about}: no part of an image`,
  ).toEqual([])
  if (live.length === 0)
    for (const id of [OLD, NEW])
      takeLease({ purpose: 'a look', write: [await leasableDrive(await driveById(id))] }).release()
  await boardState()
}

/**
 * Asks for every change three times at one moment, each from the same state, and expects so many of some to be carried
 * out; except one whose doing cannot be put back here, which is tried where the move goes on by it.
 */
async function storm(state: string, expected: object, besides?: string): Promise<void> {
  if (BETWEEN.includes(state) && !deep) return
  const kept = await keep()
  const carriedOut: Record<string, number> = {}
  for (const [name, { ask, once, before }] of Object.entries(changes())) {
    if (name === besides || (ASIDE.test(name) && !TRIED_ASIDE.includes(state) && !deep)) continue
    await before?.()
    const outcomes = await Promise.all([ask(), ask(), ask()])
    const about = `${state}, ${name}`
    let done = 0
    for (const outcome of outcomes) {
      if (!outcome.done) {
        expect(outcome.status, `${about}: ${outcome.sentence}`).toBeLessThan(500)
        expect(outcome.code, about).toMatch(/^[a-z-]+$/)
        expect(outcome.sentence, about).toMatch(/[.?]$/)
      } else if (!outcome.job) done++
      else {
        const view = await jobEnd(outcome.job)
        expect(view?.state, `${about}: ${view?.message}`).toMatch(/^(done|failed|stopped)$/)
        if (view?.state === 'failed') expect(view.message, about).not.toMatch(/unexpectedly/)
        if (view?.state !== 'failed') done++
      }
    }
    if (once) expect(done, `${about}: at most one is carried out`).toBeLessThanOrEqual(1)
    carriedOut[name] = done
    await settled()
    if (done === 0 && !before && running().size === 0 && outcomes.every((outcome) => !outcome.job)) {
      // What is refused changes nothing at all.
      expect(await rowsNow(), `${about}: nothing was changed`).toEqual(kept.rows)
      continue
    }
    await refuseDisorder(about)
    await bringBack(kept)
  }
  expect(carriedOut, state).toMatchObject(expected)
}

/** The same change three times, of which one is carried out and stays. */
async function one(ask: () => Promise<Outcome>): Promise<void> {
  const outcomes = await Promise.all([ask(), ask(), ask()])
  expect(outcomes.filter((o) => o.done).length, JSON.stringify(outcomes)).toBe(1)
}

const until = (look: () => Promise<boolean>) => vi.waitUntil(look, { timeout: 110_000, interval: 25 })
/** Waits until a copy of that state is stored; what pages are told may be ahead of that. */
const copyIs = (status: CopyStatus) => until(async () => (await CopyRow.count({ where: { moveId: MOVE, status } })) > 0)
const go = async (work: Promise<Awaited<ReturnType<typeof actions.confirmIntake>>>) => {
  const answer = await work
  expect(answer).toMatchObject({ ok: true })
  if (answer.ok && answer.value) expect(await jobEnd(answer.value.job)).toMatchObject({ state: 'done' })
}
/** When something was last written to a drive. */
const writtenAt = (driveId: string) => statSync(path.join(drivesFolder(), `${driveId}.img`), { bigint: true }).mtimeNs
let oldWrittenAt: bigint
let newWrittenAt: bigint

beforeAll(async () => {
  await openDemoBench()
  ;[oldWrittenAt, newWrittenAt] = [writtenAt(OLD), writtenAt(NEW)]
  mkdirSync(journalsFolder(), { recursive: true })
  writeFileSync(path.join(folder, 'loose.img'), new Uint8Array(2 ** 20).fill(7))
  copyFileSync(path.join(folder, 'loose.img'), path.join(imagesFolder(), 'loose.img'))
  await importBenchFile(JSON.stringify({ ...BENCH_FILE, name: SPARE }))
  await go(actions.showBench('molo-sette'))
})

afterAll(async () => {
  await (await database()).close()
})

describe('every change, three times at one moment', () => {
  it('is among those tried here', () => {
    const tried = Object.keys(changes()).map((name) => name.split(' ')[0])
    expect(new Set(tried.filter((name) => !/^(POST|DELETE)$/.test(name)))).toEqual(new Set(Object.keys(actions)))
    const routes = readdirSync('src/app/api', { recursive: true, encoding: 'utf8' })
      .filter((file) => file.endsWith('route.ts'))
      .filter((file) => /\b(POST|PUT|PATCH|DELETE)\b/.test(readFileSync(path.join('src/app/api', file), 'utf8')))
      .map((file) => path.dirname(file))
      .sort()
    // Uploads and sessions have tests of their own.
    expect(routes).toEqual(
      [
        ...['bench/drives/[id]/place', 'benches/import', 'images/bench', 'images/files/[name]', 'images/jobs'],
        ...['images/upload/[[...id]]', 'jobs/[id]', 'lent', 'moves/[id]/copy', 'session'],
      ].sort(),
    )
  })

  it('of a move that is new', async () => {
    await storm('new', {
      ...{ readDrives: 0, lockFit: 0, newMove: 1, addDrive: 1 },
      ...{ eraseDrive: 1, removeBench: 1, giveUpMove: 1, 'DELETE images/files': 1 },
    })
    await go(actions.confirmIntake(MOVE))
  })

  it('of one that was taken in, then surveyed', async () => {
    await storm('taken in', { readDrives: 1, takeRoute: 0 })
    await go(actions.readDrives(MOVE))
    await settled()
    await storm('surveyed', { readDrives: 1, confirmSurvey: 3, takeRoute: 0 })
    await go(actions.confirmSurvey(MOVE))
  })

  it('of one with a route, then with a fit', async () => {
    await storm('survey confirmed', { takeRoute: 3 })
    const [plan] = (await views.routeView(await movePage(MOVE))).plans
    await go(actions.takeRoute(MOVE, plan.id))
    await storm('route chosen', { takeRoute: 3, lockFit: 3, finishStep: 0 })
    await go(actions.lockFit(MOVE, { wish: WISH }))
    await storm('fit locked', { 'POST copy': 0 })
    await go(actions.settle(MOVE, { action: 'start-stick' }))
    await go(actions.settle(MOVE, { action: 'skip-map-check' }))
  })

  it('of one that is being copied, was stopped, and is copied', async () => {
    await storm('ready', { 'POST copy': 0 })
    await go(actions.setPace('1'))
    const { seen } = await views.readyView(await movePage(MOVE))
    await one(() => route(changeCopy, { plate: '4M1Q', seen }, { id: MOVE }))
    await storm('copying', { unlockFit: 0, startTrial: 0, giveUpMove: 0 }, 'setPace')
    await Promise.all([1, 2, 3].map(() => route(changeCopy, { command: 'stop' }, { id: MOVE })))
    await copyIs('stopped')
    await storm('stopped', { 'POST copy retry-lost': 0, giveUpMove: 1 }, 'POST copy go-on')
    await go(actions.setPace('max'))
    await one(() => route(changeCopy, { command: 'go-on' }, { id: MOVE }))
    await copyIs('done')
    await storm('copied', { unlockFit: 0, takeRoute: 0, finishStep: 1 })
  })

  it('of one whose drives are swapped, that is tried, and is handed over', async () => {
    // The case stays open until it has started from the new drive.
    for (let ticked = 0; ; ticked++) {
      const answer = await byAction('finishStep', MOVE, await nextStep())
      if (answer.code === 'swap-before-start') break
      expect(answer).toMatchObject({ done: true })
      if (ticked === 2) await storm('in the swap', { finishStep: 1, handOver: 0 })
    }
    await storm('swapped', { startTrial: 1, handOver: 0 })
    await go(actions.startTrial(MOVE))
    await storm('tried', { startTrial: 1, unlockFit: 0 })
    while ((await nextStep()) !== 'none') await go(actions.finishStep(MOVE, await nextStep()))
    await go(actions.handOver(MOVE, { by: 'Ilaria' }))
    await storm('handed over', { startTrial: expect.any(Number), giveUpMove: 0 })
    // Whatever was asked for, the old drive was only ever read.
    expect([writtenAt(OLD), writtenAt(NEW) > newWrittenAt]).toEqual([oldWrittenAt, true])
  })

  it('of one that was put off, or given up', async () => {
    const kept = await keep()
    await MoveRow.update({ handover: null }, { where: { id: MOVE } })
    await go(actions.putOffMove(MOVE, { why: 'the customer is at sea' }))
    await storm('put off', { handOver: 0, takeUpMove: 1, giveUpMove: 1 })
    await go(actions.giveUpMove(MOVE, { why: 'the computer was stolen' }))
    await storm('given up', { handOver: 0, takeUpMove: 0, giveUpMove: 0 })
    await bringBack(kept)
  })
})
