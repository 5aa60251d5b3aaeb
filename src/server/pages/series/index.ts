import { stringify } from 'csv-stringify/sync'
import * as z from 'zod'
import { copyShare } from '@/core/copy/progress'
import type { CopyView } from '@/core/copy/view'
import type { Brief } from '@/core/intake/brief'
import { leaveWindow, windowFor } from '@/core/block/read-together'
import { plateMatches, platePrefix } from '@/core/ready/plate-check'
import { asking, countsOf, type MemberState, MembersSchema, SeriesSchema, whyNotASeries } from '@/core/series/series'
import { type BenchState, berthOf } from '@/core/things/bench'
import { driveName } from '@/core/things/drive'
import { line } from '@/core/words-schema'
import { database } from '../../database'
import { type MoveRow, SeriesRow } from '../../database/models'
import { fitsLocked, hasStarted } from '../../database/notes'
import { inTransaction } from '../../database/transaction'
import { publish } from '../../ground/events'
import { freeId } from '../../ground/ids'
import { Refusal } from '../../ground/refusals'
import { calendarDay } from '../../ground/words'
import { listImages } from '../../images'
import { ImageNameSchema } from '../../images/names'
import { type Move, moveOf, whatIsGone } from '../../moves'
import { newMove } from '../../moves/change'
import { moveClaims } from '../../moves/claims'
import { latestCopy, running } from '../../moves/copies'
import { freeTargets } from '../../moves/free-targets'
import { changeMoveInTurn } from '../../moves/jobs'
import { loadLeg, progressOf, stepsAfterStart, stepsOf } from '../../moves/legs'
import { putOffMove } from '../../moves/standing'
import { readyState } from '../../stations/ready'
import { startCopy } from '../../stations/ready/start'
import { activeBench, benchState, driveById, placeDrive } from '../../world'
import { driveOfImage, putOnBench } from '../../world/image-drives'
import { knownSoon } from '../../world/known'
import { carryOn, forgetTrouble, membersOf, troubleOf } from './prepare'

const NewSeriesSchema = SeriesSchema.omit({ sourceId: true }).extend({
  /** What every drive is made from: an image, or a drive in a bay. */
  from: z.union([z.strictObject({ image: ImageNameSchema }), z.strictObject({ driveId: line().min(1).max(80) })]),
  members: MembersSchema,
})

/** Opens a series: a move for each computer, all from one image or drive. All or nothing. Returns its id. Rejects with Refusal. */
export async function newSeries(input: unknown): Promise<string> {
  const { name, customer, from, members } = NewSeriesSchema.parse(input)
  await database()
  const id = await inTransaction(async () => {
    const { id: benchId } = await activeBench()
    const sourceId = 'image' in from ? await ofImage(from.image, benchId) : await ofDrive(from.driveId, benchId)
    const { computers, drives } = await benchState(benchId)
    const nameOf = (of: string) => {
      const drive = drives.find((d) => d.id === of)
      return drive ? driveName(drive) : (computers.find((c) => c.id === of)?.name ?? of)
    }
    const why = whyNotASeries(members, nameOf)
    if (why) throw new Refusal('series-contradicts-itself', { why })
    const id = await freeId(name, 'series', async (taken) => (await SeriesRow.count({ where: { id: taken } })) > 0)
    await SeriesRow.create({ id, benchId, data: { name, customer, sourceId } })
    for (const { computerId, targetId } of members)
      await newMove({
        name: nameOf(computerId),
        customer,
        reason: 'several computers',
        computerId,
        pairs: [{ sourceId, targetId }],
        toVirtualMachine: false,
        targetComputerId: null,
        series: id,
        images: [],
        backup: null,
        promised: '',
      } satisfies Brief)
    return id
  })
  carryOn(id)
  return id
}

/** The drive that stands for an image on the bench; it is put there where none does. */
async function ofImage(image: string, benchId: string): Promise<string> {
  const standsForIt = await driveOfImage(image)
  const isHere = (await benchState(benchId)).drives.some((d) => d.id === standsForIt?.id)
  return isHere ? standsForIt!.id : putOnBench({ image })
}

/** A drive that lies in a bay. Its computers would take one that is elsewhere from each other. */
async function ofDrive(driveId: string, benchId: string): Promise<string> {
  const bench = await benchState(benchId)
  const drive = bench.drives.find((d) => d.id === driveId)
  if (!drive) throw new Refusal('drive-unknown')
  if (drive.place.kind !== 'bay')
    throw new Refusal('series-source-elsewhere', { drive: driveName(drive), place: berthOf(drive, bench).name })
  return driveId
}

/** What a new series can be made of. */
export async function seriesForm() {
  await database()
  const { id: benchId, name: benchName } = await activeBench()
  const bench = await benchState(benchId)
  const inBays = bench.drives.filter((d) => d.place.kind === 'bay')
  const known = await knownSoon(inBays)
  return {
    benchName,
    /** Drives in bays that hold a system. */
    drives: inBays.flatMap((d, i) =>
      known[i].isSystem ? [{ id: d.id, name: driveName(d), serial: d.serial, place: berthOf(d, bench).name }] : [],
    ),
    images: (await listImages()).map((image) => image.name),
    computers: bench.computers.filter((c) => !c.virtual).map((c) => ({ id: c.id, name: c.name, model: c.model })),
    targets: await freeTargets(bench, benchId),
  }
}

/** Every series of a bench, for the board; of its computers those that were not given up. */
export async function seriesOfBench(benchId: string) {
  const claims = await moveClaims(benchId)
  return (await SeriesRow.findAll({ where: { benchId } })).map(({ id, data }) => {
    const members = claims.filter((c) => c.series === id)
    return { id, name: data.name, of: members.length, done: members.filter((m) => m.handedOver).length }
  })
}

/** Everything that the page of a series shows. Rejects with Refusal when there is no such series. */
export async function seriesState(input: unknown) {
  const row = await seriesRow(input)
  const { name, customer, sourceId } = row.data
  const bench = await benchState(row.benchId)
  const source = bench.drives.find((d) => d.id === sourceId)
  const members = []
  const rows = await membersOf(row.id, row.benchId)
  for (const member of rows) members.push(await memberOf(member, bench))
  const read = rows.find((r) => r.survey)?.survey?.pairs[0].source
  const systems = read?.partitions.flatMap((p) => (p.system ? [p.system] : [])) ?? []
  return {
    id: row.id,
    name,
    customer,
    /** What they are made from, as it goes into a sentence. */
    from: source ? (source.image === null ? `the ${driveName(source)}` : `the image ${source.image}`) : 'what is gone',
    /** Systems that still take each computer for the one that they were set up on. */
    notGeneralised: systems.filter((s) => !s.generalised).map((s) => s.name),
    members,
    counts: countsOf(members.map((m) => m.state)),
    next: asking(members),
  }
}

/** The computers of a series as a table for a spreadsheet, with the name of its file. */
export async function seriesList(input: unknown): Promise<{ name: string; text: string }> {
  const { id, members } = await seriesState(input)
  const rows = members.map((m) => ({
    computer: m.computer,
    model: m.model,
    drive: m.target,
    serial: m.serial,
    bytes: m.sizeBytes,
    state: m.state,
    says: m.says,
    digest: m.digest,
    handed_over: m.handedOver,
  }))
  // Names come from people; a spreadsheet takes none of them for a formula.
  return { name: `${id}.csv`, text: stringify(rows, { header: true, escape_formulas: true }) }
}

async function seriesRow(input: unknown): Promise<SeriesRow> {
  await database()
  const id = z
    .string()
    .regex(/^[a-z0-9-]{1,60}$/)
    .safeParse(input)
  const row = id.success ? await SeriesRow.findByPk(id.data) : null
  if (!row) throw new Refusal('series-unknown')
  return row
}

interface Standing {
  readonly state: MemberState
  /** In a sentence or a few words. */
  readonly says: string
  /** The step of the hands that is next. */
  readonly step?: { readonly id: string; readonly title: string }
  /** What the list of Ready showed when the plate is typed. */
  readonly seen?: string
  /** How much of its copy is done, 0 to 1. */
  readonly share?: number
}

async function memberOf(row: MoveRow, bench: BenchState) {
  const { id, brief } = row
  const gone = whatIsGone(brief, bench)
  const move = gone === undefined ? moveOf(row, bench) : undefined
  const target = move?.pairs[0].target
  const copy = await latestCopy(id)
  return {
    id,
    computer: move?.computer.name ?? brief.name,
    model: move?.computer.model ?? '',
    target: target ? driveName(target) : '',
    serial: target?.serial ?? '',
    platePrefix: target ? platePrefix(target.serial) : '',
    place: target ? berthOf(target, bench).name : '',
    sizeBytes: target?.sizeBytes ?? 0,
    /** Of what is written on it. */
    profile: row.survey?.pairs[0]?.source.profile ?? [],
    /** What proves its copy. */
    digest: copy?.summary?.digest ?? '',
    handedOver: row.handover ? calendarDay(row.handover.at) : '',
    ...(move ? await standingOf(move, copy) : { state: 'trouble' as const, says: gone! }),
  }
}

async function standingOf(move: Move, copy: CopyView | undefined): Promise<Standing> {
  const { row, id } = move
  if (row.standing) return { state: 'aside', says: row.standing.why }
  if (row.handover) return { state: 'done', says: 'handed over' }
  const trouble = troubleOf(id)
  if (trouble) return { state: 'trouble', says: trouble }
  if (!row.survey?.confirmed) return { state: 'prepares', says: 'Its drives are read.' }
  const progress = await progressOf(row)
  if (!progress) return { state: 'waits', says: 'Waits for a bay.' }
  if (!row.fit) return { state: 'prepares', says: 'Its drive is laid out.' }
  if (!fitsLocked(row)) return { state: 'settle', says: 'Its fit was unlocked.' }
  if (running().has(id)) {
    const share = copy?.progress ? copyShare(copy.progress) : 0
    return { state: 'copies', says: copy?.status === 'paused' ? 'Its copy is paused.' : 'Its drive is written.', share }
  }
  const ended = progress.copied < progress.legs.length ? progress.copies[progress.copied] : undefined
  if (ended) return { state: 'failed', says: ended.message ?? 'Its copy did not come to its end.' }
  if (progress.phase !== undefined) {
    const { steps, done } = stepsOf(move, progress, progress.phase)
    const { id: step, title } = steps[done.length]
    return { state: 'hands', says: title, step: { id: step, title } }
  }
  if (progress.copied < progress.legs.length) return atReady(move)
  if (!hasStarted(move)) return { state: 'start', says: 'Its drive is in. Start it, and see that it does.' }
  const [left] = stepsAfterStart(move, progress)
  if (left) return { state: 'hands', says: left.title, step: { id: left.id, title: left.title } }
  return { state: 'hand-over', says: 'It has started from its drive.' }
}

async function atReady(move: Move): Promise<Standing> {
  const { items, seen } = await readyState(move, await loadLeg(move))
  const [first, ...further] = items.filter((i) => i.state !== 'settled')
  if (!first) return { state: 'plate', says: 'Type the end of its serial, and it is written.', seen }
  return { state: 'settle', says: further.length > 0 ? `${first.title} And ${further.length} more.` : first.title }
}

const MemberSchema = z.object({ series: line().max(60), move: line().max(60) })

async function memberRow(input: unknown): Promise<MoveRow> {
  const { series, move } = MemberSchema.parse(input)
  const row = await seriesRow(series)
  const member = (await membersOf(row.id, row.benchId)).find((m) => m.id === move)
  if (!member) throw new Refusal('series-not-a-member')
  return member
}

const TogetherSchema = z.object({
  series: line().max(60),
  members: z
    .array(z.object({ move: line().max(60), plate: z.string().max(40), seen: z.string().max(130) }))
    .min(2)
    .max(16),
})

/**
 * Writes the drives of several computers, what they are made from being read once for all of them. Rejects with Refusal,
 * nothing written, where a plate does not match; where one of them cannot be started the others are.
 */
export async function writeTogether(input: unknown): Promise<void> {
  const { series, members } = TogetherSchema.parse(input)
  if (new Set(members.map((m) => m.move)).size < members.length) throw new Refusal('series-not-a-member')
  for (const { move, plate } of members) {
    const { brief } = await memberRow({ series, move })
    const target = await driveById(brief.pairs[0].targetId!)
    if (!plateMatches(target.serial, plate)) throw new Refusal('plate-wrong', { drive: driveName(target) })
  }
  const window = windowFor(members.length)
  let refused: unknown
  for (const [member, { move, plate, seen }] of members.entries()) {
    try {
      await changeMoveInTurn(move, () => startCopy(move, { plate, seen }, { window, member }))
    } catch (error) {
      leaveWindow(window, member)
      refused ??= error
    }
  }
  if (refused !== undefined) throw refused
}

/** Tries once more to prepare a computer which that failed for. */
export async function prepareAgain(input: unknown): Promise<void> {
  const { id, brief } = await memberRow(input)
  forgetTrouble(id)
  carryOn(brief.series!)
  publish({ type: 'changed', moveId: id })
}

/**
 * Sets a computer aside whose copy failed: its drive goes to the table, so that the next one has the bay, and its move is
 * put off with the reason.
 */
export async function setAside(input: unknown): Promise<void> {
  const { id, brief } = await memberRow(input)
  await changeMoveInTurn(id, () =>
    inTransaction(async () => {
      const copy = await latestCopy(id)
      if (!copy || copy.status === 'done' || copy.status === 'running' || copy.status === 'paused')
        throw new Refusal('series-nothing-failed')
      const target = await driveById(brief.pairs[0].targetId!)
      if (target.place.kind === 'bay') await placeDrive(target.id, { kind: 'table' })
      const why = `Its copy failed. ${copy.message ?? ''}`.trim().slice(0, 300)
      await putOffMove(id, { why })
    }),
  )
  carryOn(brief.series!)
}
