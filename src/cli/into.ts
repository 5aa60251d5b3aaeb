import { randomBytes, randomUUID } from 'node:crypto'
import path from 'node:path'
import type { BlockDevice } from '@/core/block/device'
import { fileTime } from '@/core/bytes/file-time'
import { formatSize } from '@/core/bytes/size'
import { planInto } from '@/core/copy/plan-into'
import { planRoom } from '@/core/copy/plan-room'
import { lostWords } from '@/core/copy/progress'
import { letStart } from '@/core/copy/let-start'
import { planPut, runPut, volumeOf } from '@/core/copy/put-volume'
import { toHex } from '@/core/digest'
import { CoreError } from '@/core/errors'
import { typeOn } from '@/core/fit/identity'
import { typeText } from '@/core/fit/into'
import { fitInto, freePlace } from '@/core/fit/into-place'
import { applyRepair, settleRepair } from '@/core/repair/apply'
import { patchesOf } from '@/core/repair/written'
import { addEntry } from '@/core/scheme/entry'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { isThere } from '@/host/files'
import { openJournal } from '@/host/journal-file'
import { repairIn, repairJournal } from '@/host/repair-journal'
import { sha256 } from '@/host/sha256'
import { BLAKE3, blake3 } from '@/host/strong-digest'
import { nextJournal, repairJournalsOf } from './boot'
import { type Io, json, type Options, STOPS } from './commands'
import { tell, workOf } from './copy'
import { type InPlace, type InPlaceOptions, inPlace } from './in-place'
import { ChangedMeanwhile, refuseSources, withImage, WrongUse } from './open'
import { keepRoom, makeRoom, refuseCutOff, settleRoom, shrinkTold } from './shrink'

// One volume of a drive or an image, put into a prepared partition of a drive that keeps everything else.

export interface IntoOptions extends Options, InPlaceOptions {
  readonly volumes: readonly number[]
  readonly into: number
  readonly dryRun?: boolean
  /** The partition may hold files, which are lost. */
  readonly replace?: boolean
  readonly verify?: boolean
  readonly journal?: string
  readonly resume?: boolean
  readonly recheckAll?: boolean
  readonly skipPageFiles?: boolean
  /** False where the map of used blocks is believed. */
  readonly checkMap?: boolean
  /** Its entry was made for this copy, of unallocated space. */
  readonly added?: boolean
  /** Its system gets an entry in the boot settings of the target. */
  readonly entry?: boolean
  /** The partition that gives what is missing of room. */
  readonly shrinkNeighbour?: number
  /** It has given already. */
  readonly roomMade?: boolean
}

export async function restoreInto(input: string, target: string, options: IntoOptions, io: Io): Promise<number> {
  const { volumes, into, dryRun, verify = true, journal, shrinkNeighbour: neighbour } = options
  const [volume] = volumes
  if (volumes.length !== 1) throw new WrongUse('One volume at a time goes into a partition: --volumes N.')
  if (options.resume && !journal) throw new WrongUse('Going on needs the journal of the copy: --journal FILE.')
  // What was cut off while room was made has not begun to copy.
  const resume = options.resume === true && (neighbour === undefined || (await isThere(journal!)))
  const began = performance.now()
  const report = await withImage(
    input,
    options,
    async (image) => {
      await refuseSources(image.paths, target)
      const place = await inPlace(target, options, io, image)
      const source = await surveyDrive(image.device, sha256)
      const moved = volumeOf(source, volume, 'source')
      if (neighbour !== undefined) await readyForRoom(place, options, io)
      const roomFrom = resume || options.roomMade ? undefined : neighbour
      const { survey, put, room } = await withImage(target, options, async (there) => {
        const { drive, survey, plan } = await withRoom(there.device, {
          neighbour: roomFrom,
          into,
          bytes: moved.sizeBytes,
        })
        const sure = resume || options.added === true
        const put = await planPut(source, drive, survey, { volume, into, sure })
        return { survey, put, room: plan }
      })
      const about = { source: input, target, volume, into, added: options.added === true, seconds: 0 }
      if (!put.fits) return { ...about, fits: false as const, obstacles: put.obstacles }
      if (put.holds && !options.replace && !resume)
        throw new CoreError(
          `Partition ${into} of the target ${put.holds}. With --replace that is lost. Nothing was written.`,
        )
      const { partition, layout, entry, stays } = put
      const scope = { skipPageFiles: options.skipPageFiles === true, mapsUnchecked: options.checkMap === false }
      const plan = await planInto(image.device, layout, scope)
      const work = {
        ...about,
        fits: true as const,
        place: { ...put.place, sectorSize: place.sectorSize },
        volumeResizes: partition.resizes,
        entry,
        stays,
        copiedBytes: plan.totalBytes,
        ...(room ? { shrinks: shrinkTold(room) } : {}),
      }
      if (options.entry && !moved.system)
        throw new WrongUse(`Volume ${volume} holds no system, so there is nothing that an entry would start.`)
      if (dryRun) return { ...work, dryRun: true as const }
      if (room) await makeRoom(place, room, io)
      const kept = journal ? await openJournal(journal, { resume }) : undefined
      const { device: file, close } = await place.open()
      try {
        if (journal) await settleTable(file, `${journal}.table`)
        const outcome = await runPut(file, put, plan, {
          ...{ sha256, digest: blake3, verify },
          note: `${path.basename(input)} to partition ${into} of ${path.basename(target)}`,
          job: kept?.state?.job ?? `into-${sha256Text(`${target} ${into} ${began}`)}`,
          work: workOf(['into', volume, layout, scope, source.fingerprint]),
          journal: kept,
          from: kept?.state,
          recheck: options.recheckAll ? 'every' : 'sample',
          checkpoint: () => io.signal.throwIfAborted(),
          onStep: tell(plan, verify, options.json === true, io),
          beforeTables: async () => {
            if (await image.changed()) throw new ChangedMeanwhile(input)
          },
          tableJournal: journal ? repairJournal(`${journal}.table`) : { keep: async () => {} },
        })
        if (neighbour !== undefined) await keepRoom(place)
        const start = options.entry ? await startFrom(file, place, into, survey.scheme) : NOTHING_STARTS
        return {
          ...work,
          verified: outcome.checkedBytes > 0,
          digest: outcome.digest,
          digestName: BLAKE3,
          lost: [...outcome.lost],
          ...start,
          hasEntry: moved.system === undefined || (options.entry === true && start.startProblem === null),
          seconds: Math.round((performance.now() - began) / 10) / 100,
        }
      } finally {
        await close()
        await kept?.close()
      }
    },
    { checked: true },
  )
  await io.print(options.json ? json(report) : intoText(report))
  const isWhole = !('lost' in report) || (report.lost.length === 0 && report.startProblem === null)
  return report.fits && isWhole ? 0 : STOPS
}

/** What of a target's start was changed, and why the rest of it could not be. */
interface StartChanges {
  readonly startChanges: readonly string[]
  readonly startProblem: string | null
}
const NOTHING_STARTS: StartChanges = { startChanges: [], startProblem: null }

/** Has the system that came start from here. Each change can be taken back by its journal beside the target. */
async function startFrom(
  file: BlockDevice,
  { beside }: InPlace,
  system: number,
  scheme: DriveSurvey['scheme'],
): Promise<StartChanges> {
  const { made, problem } = await letStart(file, {
    ...{ system, scheme, time: fileTime(Date.now()), chance: () => randomBytes(16) },
    journalFor: async () => repairJournal(nextJournal(beside, await repairJournalsOf(beside))),
  })
  return { startChanges: made.flatMap((plan) => plan.changes), startProblem: problem }
}

/** The same into unallocated space, which gets an entry of its own first: then it is a prepared partition. */
export async function restoreIntoFree(
  input: string,
  target: string,
  options: Omit<IntoOptions, 'into'>,
  io: Io,
): Promise<number> {
  const { volumes, dryRun, journal, resume, shrinkNeighbour: neighbour } = options
  if (volumes.length !== 1) throw new WrongUse('One volume at a time goes into a partition: --volumes N.')
  const made = journal ? `${journal}.entry` : undefined
  const begun = resume && made ? await repairIn(made) : undefined
  if (begun?.state === 'done') {
    const into = Number(begun.name.split(' ').at(-1))
    const copying = journal !== undefined && (await isThere(journal))
    const further = { ...options, into, resume: copying, added: true, replace: true, roomMade: true }
    return restoreInto(input, target, further, io)
  }
  // The entry is written before the copy looks at what it is given, so the source is kept from it here.
  const { source, place } = await withImage(input, options, async (image) => {
    await refuseSources(image.paths, target)
    return { source: await surveyDrive(image.device, sha256), place: await inPlace(target, options, io, image) }
  })
  const { sectorSize } = place
  const moved = volumeOf(source, volumes[0], 'source')
  if (neighbour !== undefined) await readyForRoom(place, options, io)
  const { survey, room } = await withImage(target, options, async (there) => {
    const { survey, plan } = await withRoom(there.device, { neighbour, bytes: moved.sizeBytes })
    return { survey, room: plan }
  })
  const free = freePlace(survey, moved.sizeBytes)
  if (!free) throw new CoreError('There is no unallocated space on the target. Nothing was written.')
  const type = typeOn(survey.scheme, moved)
  const laid = fitInto(source, volumes[0], { ...free, number: 0, sectorSize, driveBytes: survey.sizeBytes })
  if (!laid.fits || dryRun) {
    const at = {
      offset: free.firstLba * sectorSize,
      length: (free.lastLba - free.firstLba + 1) * sectorSize,
      sectorSize,
    }
    const shrinks = room ? { shrinks: shrinkTold(room) } : {}
    const about = { source: input, target, volume: volumes[0], into: null, added: true, seconds: 0, ...shrinks }
    const report = laid.fits
      ? {
          ...about,
          fits: true as const,
          place: at,
          entry: { before: '', after: typeText(type) },
          copiedBytes: null,
          dryRun: true as const,
        }
      : { ...about, fits: false as const, obstacles: laid.obstacles }
    await io.print(options.json ? json(report) : intoText(report))
    return laid.fits ? 0 : STOPS
  }
  if (room) await makeRoom(place, room, io)
  const into = await withOpen(place, async (file) => {
    if (made) await settleTable(file, made)
    let number = 0
    const entry = { type, firstLba: free.firstLba, lastLba: free.lastLba, guid: randomUUID() }
    const patches = await patchesOf(file, async (drive) => (number = await addEntry(drive, entry)))
    const plan = { name: `entry ${number}`, title: `Partition ${number} is made`, changes: [], patches }
    await applyRepair(file, plan, made ? repairJournal(made) : { keep: async () => {} })
    return number
  })
  // What the space held before belongs to nobody.
  const further = { ...options, resume: false, into, added: true, replace: true, roomMade: true }
  return restoreInto(input, target, further, io)
}

/** The target as it will be once a neighbour has given what is missing, where one is to; else as it is. */
async function withRoom(
  drive: BlockDevice,
  { neighbour, ...asked }: { readonly neighbour?: number; readonly into?: number; readonly bytes: number },
) {
  const survey = await surveyDrive(drive, sha256)
  if (neighbour === undefined) return { drive, survey }
  const room = await planRoom(drive, survey, { neighbour, ...asked })
  return room.plan ? { ...room, survey: await surveyDrive(room.drive, sha256) } : { drive, survey }
}

/** Before room is planned for: what was cut off of an earlier making of it is taken back. */
function readyForRoom(place: InPlace, { dryRun }: Pick<IntoOptions, 'dryRun'>, io: Io): Promise<void> {
  return dryRun ? refuseCutOff(place) : settleRoom(place, io)
}

/** Takes a change of the table back that was cut off. */
async function settleTable(file: BlockDevice, journal: string): Promise<void> {
  const record = await repairIn(journal)
  if (record) await settleRepair(file, record, repairJournal(journal))
}

async function withOpen<T>(place: InPlace, work: (device: BlockDevice) => Promise<T>): Promise<T> {
  const { device, close } = await place.open()
  try {
    return await work(device)
  } finally {
    await close()
  }
}

const sha256Text = (text: string) => toHex(sha256(new TextEncoder().encode(text))).slice(0, 12)

type IntoReport =
  | {
      readonly fits: false
      readonly into: number | null
      readonly obstacles: readonly { sentence: string; mend: string }[]
    }
  | {
      readonly fits: true
      readonly target: string
      readonly volume: number
      readonly into: number | null
      readonly added: boolean
      readonly place: { readonly offset: number; readonly length: number }
      readonly entry: { readonly before: string; readonly after: string }
      /** Null before there is a partition to plan for. */
      readonly copiedBytes: number | null
      readonly dryRun?: true
      readonly shrinks?: ReturnType<typeof shrinkTold>
      readonly verified?: boolean
      readonly startChanges?: readonly string[]
      readonly startProblem?: string | null
      readonly hasEntry?: boolean
      readonly lost?: Parameters<typeof lostWords>[0]
      readonly seconds: number
    }

function intoText(report: IntoReport): string {
  if (!report.fits) return report.obstacles.map(({ sentence, mend }) => `${sentence} ${mend}\n`).join('')
  const {
    target,
    volume,
    into,
    place,
    entry,
    copiedBytes,
    dryRun,
    verified,
    lost = [],
    seconds,
    shrinks,
    startChanges = [],
  } = report
  const room = shrinks
    ? ` Partition ${shrinks.partition} becomes ${formatSize(shrinks.afterBytes)}, from ${formatSize(shrinks.beforeBytes)}, for that.`
    : ''
  const type =
    entry.before === entry.after || report.added ? '' : ` Its type becomes ${entry.after}, from ${entry.before}.`
  const number = into === null ? 'a new partition' : `partition ${into}`
  const what = `volume ${volume} into ${number}${report.added && into !== null ? ', made for it' : ''}, ${formatSize(place.length)} from byte ${place.offset}`
  if (dryRun) {
    const bytes = copiedBytes === null ? '' : `; ${formatSize(copiedBytes)} to copy`
    return `${target}: would put ${what}${bytes}.${type}${room} Nothing was written.\n`
  }
  const read = verified ? 'read back and equal' : 'not read back'
  return [
    `${target}: ${what}; ${formatSize(copiedBytes ?? 0)}, ${read}, ${seconds.toFixed(1)} s.${type}${room}`,
    'All else that was looked at on it, the tables and both ends of every other partition, is as it was.',
    ...startChanges,
    ...(report.startProblem ? [`It does not start from here yet: ${report.startProblem}`] : []),
    ...(report.hasEntry === false && !report.startProblem
      ? ['Its system has no entry in the boot settings yet; the repair system-entry makes one.']
      : []),
    ...(lost.length > 0 ? [`${lostWords(lost)}.`] : []),
    '',
  ].join('\n')
}
