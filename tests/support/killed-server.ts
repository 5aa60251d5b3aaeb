// Stands for a server that is killed: settles what the last one left and tells it, brings the job that was cut off to its
// end, then begins one of the kind that it is asked for and waits for its own.
import { readdirSync } from 'node:fs'
import './bundled-threads'

const { start } = await import('@/server/start')
const { CopyRow, JobRow } = await import('@/server/database/models')
const { imagesFolder } = await import('@/server/ground/paths')
const { movePage } = await import('@/server/moves/page')
const { loadMove } = await import('@/server/moves')
const { latestCopy } = await import('@/server/moves/copies')
const { startMapChecks } = await import('@/server/moves/map-checks')
const { jobEnd, runningJobs, stopJob } = await import('@/server/jobs')
const { startImageJob } = await import('@/server/pages/images/jobs')
const { startEmulated } = await import('@/server/pages/emulated')
const { eraseDrive } = await import('@/server/pages/shelf')
const stations = await import('@/server/stations/testing')
const { changePace } = await import('@/server/stations/copy')
const { lockFit } = await import('@/server/stations/fit')
const { makeRoom, roomIsMade } = await import('@/server/stations/fit/room')
const { confirmIntake } = await import('@/server/stations/intake')
const { startTrial } = await import('@/server/stations/proof')
const { makeRepair, settleRepairs, takeRepairBack } = await import('@/server/stations/proof/repairs')
const { readyAction } = await import('@/server/stations/ready')
const { resumeCopy, startCopy } = await import('@/server/stations/ready/start')
const { takeRoute } = await import('@/server/stations/route')
const { confirmSurvey, readDrives } = await import('@/server/stations/survey')
const { finishStep } = await import('@/server/stations/swap')
const { driveById } = await import('@/server/world')

const MOVE = 'ticket-desk'
const ON_SHELF = 'crh2-250'

type Started = { ended: Promise<{ state: string; message: string | null }> } | undefined | void

async function erase(): Promise<Started> {
  const plate = (await driveById(ON_SHELF)).serial.replace(/\W/g, '').slice(-4)
  return eraseDrive({ driveId: ON_SHELF, how: 'zeros', plate, reason: 'the customer asked for it' })
}

/** Puts the drives where the plan has them, as far as that goes before a start. */
async function swap(): Promise<void> {
  for (;;) {
    const { steps, done } = await stations.swapView(await movePage(MOVE))
    if (done === steps.length || steps[done].afterStart) return
    await finishStep(MOVE, { step: steps[done].id })
  }
}

async function beginCopy(): Promise<void> {
  await confirmSurvey(MOVE)
  const [plan] = (await stations.routeView(await movePage(MOVE))).plans
  await takeRoute(MOVE, { plan: plan.id })
  // Room stays unallocated behind the system volume, to be taken up afterwards.
  const wish = { rules: { '3': 'set' }, sizes: { '3': 300 * 2 ** 30 }, reserve: 0, order: [1, 2, 4, 3] }
  await lockFit(MOVE, { wish })
  await readyAction(MOVE, { action: 'start-stick' })
  await readyAction(MOVE, { action: 'skip-map-check' })
  await changePace('max')
  await startOver()
}

async function startOver(): Promise<void> {
  const { seen } = await stations.readyView(await movePage(MOVE))
  await startCopy(MOVE, { plate: '4M1Q', seen })
}

async function endOfCopy(): Promise<void> {
  // One that was cut off before anything was sure is started over.
  if ((await latestCopy(MOVE))?.resumable) await resumeCopy(MOVE)
  else await startOver()
  while ((await CopyRow.count({ where: { moveId: MOVE, status: 'running' } })) > 0)
    await new Promise((resolve) => setTimeout(resolve, 20))
}

const PUT = 'grading'

/** Room for one system on the drive that it goes to; its drives are read first. */
async function makeRoomThere(): Promise<Started> {
  if (roomIsMade(PUT)) return
  if (!(await loadMove(PUT)).row.survey) {
    await toItsEnd(await confirmIntake(PUT))
    await toItsEnd(await readDrives(PUT))
  }
  const plate = (await driveById('crv5-1000')).serial.replace(/\W/g, '').slice(-4)
  return makeRoom(PUT, { neighbour: 3, plate })
}

const emulateDrive = () => startEmulated({ subject: { kind: 'drives', id: 'crv3-240' }, firmware: 'bios' })

const image = (of: object) => () => startImageJob(of)

/** How each kind begins; where it is brought to its end in another way, how that is done. */
const KINDS: Record<string, { begin: () => Promise<Started>; end?: () => Promise<Started> }> = {
  measure: { begin: () => confirmIntake(MOVE) },
  survey: { begin: () => readDrives(MOVE) },
  'map-check': { begin: () => startMapChecks(MOVE) },
  convert: {
    begin: image({ kind: 'convert', input: 'survey office 3 May.vhdx', output: 'made.img', to: 'raw' }),
  },
  capture: { begin: image({ kind: 'capture', driveId: 'crv3-240', output: 'kept.vhdx', to: 'vhdx', usedOnly: true }) },
  compare: {
    begin: image({
      kind: 'compare',
      a: { kind: 'images', id: 'survey office 3 May.vhdx' },
      b: { kind: 'images', id: 'made.img' },
    }),
  },
  verify: { begin: image({ kind: 'verify', input: 'made.img' }) },
  compact: { begin: image({ kind: 'compact', input: 'made.img' }) },
  erase: { begin: erase },
  copy: { begin: beginCopy, end: endOfCopy },
  trial: { begin: async () => (await swap(), startTrial(MOVE)) },
  repair: {
    begin: () => makeRepair(MOVE, 'take-up-room'),
    async end() {
      await settleRepairs(await loadMove(MOVE))
      const { row } = await loadMove(MOVE)
      if (row.proof?.repairs.some((r) => !r.undone)) return
      return makeRepair(MOVE, 'take-up-room')
    },
  },
  'make-room': { begin: makeRoomThere },
  emulate: {
    begin: async () => void (await emulateDrive()),
    async end() {
      const job = await emulateDrive()
      stopJob(job)
      const { state } = await jobEnd(job)
      if (state !== 'stopped') throw new Error(state)
    },
  },
  'undo-repair': {
    begin: () => takeRepairBack(MOVE),
    async end() {
      await settleRepairs(await loadMove(MOVE))
      const { row } = await loadMove(MOVE)
      if (row.proof?.repairs.some((r) => !r.undone)) return takeRepairBack(MOVE)
    },
  },
}

const say = (what: string, value: unknown = null) => console.log(`${what} ${JSON.stringify(value)}`)

async function toItsEnd(started: Started): Promise<void> {
  const view = await started?.ended
  if (view && view.state !== 'done') throw new Error(view.message ?? view.state)
}

const [before, next] = process.argv.slice(2)
await start()
say('FOUND', {
  running:
    (await JobRow.count({ where: { state: 'running' } })) + (await CopyRow.count({ where: { status: 'running' } })),
  last: before && (await JobRow.findOne({ where: { kind: before }, order: [['startedAt', 'DESC']], raw: true })),
  copy: (await CopyRow.findOne({ raw: true, attributes: ['status', 'resumable'] })) ?? null,
  partial: readdirSync(imagesFolder()).filter((name) => name.startsWith('.')),
})
if (before !== 'none') await toItsEnd(await (KINDS[before].end ?? KINDS[before].begin)())
for (const { id } of runningJobs(MOVE)) await jobEnd(id)
say('ENDED')
if (next !== 'none') {
  await KINDS[next].begin()
  say('BEGUN')
  // The process stays until it is killed.
  setInterval(() => {}, 1000)
} else process.exit(0)
