import { stat, statfs } from 'node:fs/promises'
import * as z from 'zod'
import { MIB } from '@/core/bytes/size'
import { type CopyChoices, CopyChoicesChangeSchema, CopyChoicesSchema } from '@/core/copy/choices'
import { SliceDevice } from '@/core/block/slice'
import { type PutPlan, putOf } from '@/core/copy/put-volume'
import { toHex } from '@/core/digest'
import { movedPartitions } from '@/core/fit/ends'
import type { Layout } from '@/core/fit/types'
import { openCount, readyItems } from '@/core/ready/items'
import type { FurtherTarget, Acknowledgement, ReadyFacts, ReadyItem } from '@/core/ready/port'
import { whyItFails } from '@/core/route/play'
import { legSeconds } from '@/core/route/timing'
import { readMarker } from '@/core/survey/marker'
import { fingerprintOf } from '@/core/survey/fingerprint'
import type { DriveSurvey } from '@/core/survey/types'
import { berthOf, lentByOf, placeKey } from '@/core/things/bench'
import type { Computer } from '@/core/things/computer'
import { type Drive, driveName } from '@/core/things/drive'
import { sha256 } from '@/host/sha256'
import { inTransaction } from '../../database/transaction'
import { ReadyResultSchema } from '../../database/schemas'
import { dataFolder } from '../../ground/paths'
import { Refusal } from '../../ground/refusals'
import { clockTime, dayWords } from '../../ground/words'
import { saveStationResults, loadMove, type Move, obstacleOf, hasOwnIdentity } from '../../moves'
import { latestCopy } from '../../moves/copies'
import { goalOf } from '../../moves/goal'
import { copyNote, givenImage, type LegNow, loadLeg, type Progress, progressOf } from '../../moves/legs'
import { driveOf, driveUnder, hostFileOf, type Medium, mediumPlate, mediumWords, withMedium } from '../../moves/media'
import { type LogWords, note } from '../../moves/logbook'
import { mapCheckProgress, startMapChecks } from '../../moves/map-checks'
import { heldNow } from '../../moves/plan-problem'
import { pairsOf } from '../../moves/question'
import { reservedDrives } from '../../moves/reserved-drives'
import { changeComputer, withDrive } from '../../world'
import { benchNow } from '../../world/clock'
import { knownOf } from '../../world/known'

/** The list as the facts are this moment. */
export interface ReadyState {
  readonly sourceFingerprint: string
  readonly items: readonly ReadyItem[]
  readonly open: number
  readonly whenDone: 'stay' | 'power-off'
  /** Absent of an image, which is made anew. */
  readonly targetFingerprint?: string
  readonly choices: CopyChoices
  /** Further drives that are written in the same reading. */
  readonly further: readonly Drive[]
  readonly furtherFingerprints: Readonly<Record<string, string>>
  /** Digest of the identity, the tables and the sizes of all drives of this copy; what a plate is typed for. */
  readonly seen: string
}

/** What of a leg the list is about. One that makes something new has no drive to write to. */
type Looked = Pick<LegNow, 'index' | 'transfer' | 'source'> & {
  /** The one volume that goes, where not all do. */
  readonly volumes?: LegNow['volumes']
  readonly last?: boolean
  readonly from?: Medium
  readonly to?: Medium
  readonly target?: DriveSurvey
  readonly layout?: Layout
}

/** Looks at everything that has to be true before the copy of a leg may start. */
export async function readyState(move: Move, leg: LegNow): Promise<ReadyState> {
  const { facts, now, further, furtherPrints, prints } = await look(move, leg)
  const items = readyItems(facts)
  const identity = [leg.from, leg.to, ...further.map((drive) => ({ kind: 'drive', drive }) as const)].map(identityOf)
  const all = [prints.source, prints.target, ...Object.values(furtherPrints)]
  return {
    items,
    open: openCount(items),
    whenDone: now.whenDone,
    ...(prints.target === undefined ? {} : { targetFingerprint: prints.target }),
    sourceFingerprint: prints.sourceWanted,
    choices: now.choices,
    further,
    furtherFingerprints: furtherPrints,
    seen: toHex(sha256(new TextEncoder().encode(JSON.stringify([identity, all, leg.layout])))),
  }
}

const identityOf = (medium: Medium) => {
  if (medium.kind === 'image') return [medium.name, medium.format, medium.sizeBytes, driveUnder(medium)?.serial]
  const { id, model, serial, sizeBytes } = medium.drive
  return [id, model, serial, sizeBytes]
}

/** The list of a route that this version cannot carry out, by the leg it is at. Throws Refusal before there is one. */
export async function readyAhead(move: Move): Promise<readonly ReadyItem[]> {
  const { row, bench } = move
  const progress = await progressOf(row)
  if (!progress || !row.survey) throw new Refusal('no-route')
  const index = progress.leg
  const { transfer } = progress.legs[index]
  const medium = (end: typeof transfer.from): Medium | undefined => {
    const drive = end.kind === 'drive' ? bench.drives.find((d) => d.id === end.driveId) : undefined
    return drive && { kind: 'drive', drive }
  }
  const pair = row.survey.pairs[transfer.pair]
  const [from, to] = [medium(transfer.from), medium(transfer.to)]
  const target = to && driveOf(to)?.id === move.pairs[transfer.pair].target?.id ? (pair.target ?? undefined) : undefined
  const looked = { index, transfer, source: pair.source, from, to, target }
  return readyItems((await look(move, looked)).facts)
}

async function look(move: Move, leg: Looked) {
  const { row, bench } = move
  if (!row.survey) throw new Refusal('no-survey')
  const { from, to, transfer } = leg
  const source = from && mediumPlate(from, bench)
  const target = to && mediumPlate(to, bench)
  const [under, over] = [from && driveUnder(from), to && driveUnder(to)]
  const written = to && driveOf(to)
  const sourcePrint = from && (await withMedium(from, fingerprintOf))
  const [targetPrint, marker, put] = written
    ? await withDrive(written, async (device) => {
        const put = leg.layout?.into && leg.target ? await putOf(device, leg.target, leg.layout) : undefined
        // Of one volume its partition is marked, and not the drive.
        const marked = put ? new SliceDevice(device, put.place.offset, put.place.length) : device
        return [await fingerprintOf(device), await readMarker(marked), put] as const
      })
    : [undefined, undefined, undefined]
  const progress = (await progressOf(row))!
  // What a leg before wrote is known by what that leg left on it.
  const before = progress.copies.slice(0, leg.index).findLast((_, i) => from && writes(progress, i, leg, from))
  const given = from?.kind === 'image' ? row.route?.via[givenImage(from.name)] : undefined
  const sourceWanted = before?.summary?.targetFingerprint ?? given?.fingerprint ?? leg.source.fingerprint
  const stick = bench.accessories.find((a) => a.kind === 'stick')
  const who = bench.computers.find((c) => c.id === transfer.by)
  // What Imbarco runs on is a computer of the shop, but where it is the one that the move is about.
  const isShops = who?.isThis && who.id !== move.computer.id && who.id !== move.goal?.id
  const runner = isShops ? undefined : who
  const host = await statfs(dataFolder())
  const ends = [
    [transfer.from, under],
    [transfer.to, over],
  ] as const
  const elsewhere = ends.flatMap(([medium, drive]) => {
    const isThere =
      drive?.kernel != null ||
      (drive && 'place' in medium && medium.place !== null && placeKey(medium.place) === placeKey(drive.place))
    return drive && !isThere ? [driveName(drive)] : []
  })
  const now = row.ready ?? UNTOUCHED
  const { choices } = now
  const { drives: further, facts: furtherFacts, fingerprints } = await furtherOf(move, leg, choices)
  const seconds = legSeconds(transfer.timing, transfer.bytes)
  const layout = leg.layout
  const isMarked = from !== undefined && marker?.note === copyNote(move, { from })
  const facts: ReadyFacts = {
    source: only(leg.source, leg.volumes),
    target: leg.target,
    ...(put ? { into: intoOf(put, leg.target!) } : {}),
    sourceName: from ? mediumWords(from) : holderName(transfer.from, bench),
    targetName: to ? mediumWords(to) : holderName(transfer.to, bench),
    sourceHealth: from && driveOf(from)?.health,
    live: progress.plan.live,
    overNetwork: runner !== undefined && /ethernet/.test(transfer.linkKey),
    ...(move.brief.toVirtualMachine || move.brief.targetComputerId !== null ? { goal: await goalOf(move) } : {}),
    ...startsInOf(move, leg),
    adapters: ends.flatMap(([, drive]) => adapterOf(drive, bench, seconds.copy + (choices.verify ? seconds.check : 0))),
    notYet: obstacleOf(move),
    choices,
    further: furtherFacts,
    acknowledged: acknowledgementsOf(now),
    computer: runner && {
      name: runner.name,
      running: runner.running,
      bootMenuKey: runner.firmware.bootMenuKey,
      secureBoot: runner.firmware.secureBoot,
      hasBattery: runner.chassis.hasBattery,
      batteryPercent: runner.batteryPercent,
      mains: runner.mains,
      programs: runner.programs,
      sleepMinutes: runner.sleepMinutes,
      online: runner.online,
    },
    home: { name: move.computer.name, addresses: move.computer.networkCards.flatMap((c) => c.address ?? []) },
    hostName: isShops ? who.name : bench.accessories.find((a) => a.id === transfer.by)?.name,
    stickName: stick?.name ?? 'rescue stick',
    hostNeededBytes: over?.kernel
      ? null
      : from
        ? (await hostBytes(from, leg.source.usedBytes)) * (1 + further.length)
        : leg.source.usedBytes,
    hostFreeBytes: host.bavail * host.bsize,
    ofSeries: move.brief.series !== undefined,
    backup: move.brief.backup ? { where: move.brief.backup.where, date: dayWords(move.brief.backup.date) } : undefined,
    sourceUnchanged: sourcePrint === sourceWanted,
    // A target that an unfinished copy of this very move has marked is the one that was confirmed.
    targetUnchanged: targetPrint === leg.target?.fingerprint || isMarked,
    targetMarked: isMarked,
    sourceWritten: before?.summary !== undefined && before.summary !== null,
    targetConnected: target?.connected ?? true,
    sourceConnected: source?.connected,
    handsFirst: progress.phase !== undefined && progress.phase === progress.copied,
    elsewhere,
    lent: ends.flatMap(([, drive]) => lentOf(drive, bench)),
    seen: [under, ...(over && over !== under ? [over] : []), ...further].flatMap((drive) =>
      seenOf(drive, drive !== under),
    ),
    routeHolds: elsewhere.length === 0,
    surveyedAt: clockTime(row.survey.at),
    mapCheckProgress: mapCheckProgress(move.id),
    resized: layout ? layout.partitions.filter((p) => p.resizes).map((p) => p.sourceNumber) : [],
    leftOut:
      layout && !leg.volumes
        ? movedPartitions(leg.source).filter((p) => !layout.partitions.some((q) => q.sourceNumber === p.number))
        : [],
  }
  return {
    facts,
    now,
    further,
    furtherPrints: fingerprints,
    prints: { source: sourcePrint, target: targetPrint, sourceWanted },
  }
}

/** A drive with the volumes alone that are moved. */
const only = (survey: DriveSurvey, volumes: LegNow['volumes'] | undefined): DriveSurvey =>
  volumes ? { ...survey, partitions: survey.partitions.filter((p) => volumes.includes(p.number)) } : survey

function intoOf({ into, holds, entry }: PutPlan, target: DriveSurvey): NonNullable<ReadyFacts['into']> {
  const title = target.partitions.find((p) => p.number === into)?.title
  const named = entry.before === '' || title === undefined ? 'made of unallocated space' : title
  return { partition: into, title: named, ...(holds && entry.before !== '' ? { holds } : {}) }
}

/** What is not a drive, in words. */
function holderName(holder: LegNow['transfer']['from'], bench: Move['bench']): string {
  const at = holder.kind === 'virtual-disk' ? holder.hostId : holder.kind === 'image' ? holder.store : ''
  const drive = bench.drives.find((d) => d.id === at)
  const name = drive ? driveName(drive) : (bench.accessories.find((a) => a.id === at)?.name ?? 'bench')
  return `${holder.kind === 'virtual-disk' ? 'virtual disk' : 'image'} on the ${name}`
}

/** The dock, enclosure or cable that a drive hangs at, with its link. */
function adapterOf(drive: Drive | undefined, bench: Move['bench'], seconds: number): ReadyFacts['adapters'] {
  if (drive?.place.kind !== 'bay') return []
  const { name, link } = berthOf(drive, bench)
  return link ? [{ name, link, seconds }] : []
}

function lentOf(drive: Drive | undefined, bench: Move['bench']): ReadyFacts['lent'] {
  const by = drive && lentByOf(drive, bench)
  return by ? [{ name: driveName(drive), bench: by.bench, bytesPerSecond: by.bytesPerSecond }] : []
}

/** Of the system's last leg to a computer: whether its firmware starts from such a table. */
function startsInOf({ goal }: Move, { transfer, layout, last }: Looked): Pick<ReadyFacts, 'startsIn'> {
  if (!goal || goal.virtual || !last || !layout || transfer.pair !== 0) return {}
  return { startsIn: { name: goal.name, mode: goal.firmware.mode, table: layout.scheme } }
}

function seenOf(drive: Drive | undefined, isWritten: boolean): ReadyFacts['seen'] {
  if (!drive?.kernel || drive.kernel.path === null) return []
  const { path, uses, serialOf, hasTwin } = drive.kernel
  return [{ id: drive.id, name: driveName(drive), path, uses, serialOf, hasTwin, isWritten }]
}

const UNTOUCHED: z.infer<typeof ReadyResultSchema> = ReadyResultSchema.parse({ whenDone: 'stay' })

function acknowledgementsOf({ acknowledged, backupWaived }: typeof UNTOUCHED): Record<string, Acknowledgement> {
  const said = Object.entries(acknowledged).map(
    ([id, { at, ...rest }]) => [id, { ...rest, at: clockTime(at) }] as const,
  )
  return { ...(backupWaived ? { backup: { at: 'before' } } : {}), ...Object.fromEntries(said) }
}

/** The drives that are written beside the target, as they are now. */
async function furtherOf(move: Move, leg: Looked, { further }: CopyChoices) {
  const taken = await reservedDrives(move.bench, move.row.benchId, move.id)
  const drives = further.flatMap((id) => move.bench.drives.filter((d) => d.id === id))
  const facts: FurtherTarget[] = []
  const fingerprints: Record<string, string> = {}
  for (const drive of drives) {
    fingerprints[drive.id] = await withDrive(drive, fingerprintOf)
    const known = await knownOf(drive)
    facts.push({
      id: drive.id,
      name: driveName(drive),
      connected: isReached(drive, move.bench, leg),
      sameSize: leg.to?.kind === 'drive' && sameShape(drive, leg.to.drive),
      taken: leg.layout?.into
        ? 'A volume goes into the partition of one drive at a time.'
        : hasOwnIdentity(move)
          ? 'The target gets an identity of its own, which no second drive may have.'
          : isOwn(drive, move)
            ? `The ${driveName(drive)} belongs to this move already.`
            : (taken.get(drive.id) ?? null),
      holds: known.isEmpty ? 'it holds nothing' : `it holds ${known.holds}`,
    })
  }
  return { drives, facts, fingerprints }
}

const sameShape = (a: Drive, b: Drive) => a.sizeBytes === b.sizeBytes && a.logicalSectorSize === b.logicalSectorSize

const isOwn = (drive: Drive, { pairs }: Move) => pairs.some((p) => [p.source.id, p.target?.id].includes(drive.id))

/** True for a drive that what copies can write to: outside by USB, or in a slot of that very computer. */
function isReached(drive: Drive, bench: Move['bench'], { transfer }: Looked): boolean {
  if (!berthOf(drive, bench).link) return false
  return drive.place.kind === 'bay' || (drive.place.kind === 'slot' && drive.place.computerId === transfer.by)
}

/** Drives of the bench that could be written in the same reading: within reach, alike, and nobody else's. */
export async function furtherCandidates(move: Move, leg: LegNow): Promise<Drive[]> {
  if (leg.to.kind !== 'drive' || leg.layout.into || hasOwnIdentity(move)) return []
  const target = leg.to.drive
  const source = driveUnder(leg.from)
  const taken = await reservedDrives(move.bench, move.row.benchId, move.id)
  return move.bench.drives.filter(
    (d) =>
      !isOwn(d, move) &&
      !taken.has(d.id) &&
      d.id !== target.id &&
      d.id !== source?.id &&
      (d.file !== null || d.kernel !== undefined) &&
      sameShape(d, target) &&
      isReached(d, move.bench, leg),
  )
}

/** Whether a leg wrote what another one reads. */
function writes({ legs }: Progress, index: number, leg: Looked, from: Medium): boolean {
  const { to, pair } = legs[index].transfer
  if (from.kind === 'drive') return to.kind === 'drive' && to.driveId === from.drive.id
  return to.kind === 'image' && pair === leg.transfer.pair
}

export const ReadyActionSchema = z.discriminatedUnion('action', [
  z.object({ action: z.literal('start-stick') }),
  z.object({ action: z.literal('start-system') }),
  z.object({ action: z.literal('plug-in') }),
  z.object({ action: z.literal('look-again') }),
  z.object({ action: z.literal('waive-backup') }),
  z.object({ action: z.literal('close-program'), of: z.string().max(40) }),
  z.object({ action: z.literal('go-offline') }),
  z.object({ action: z.literal('no-sleep') }),
  z.object({ action: z.literal('skip-page-files') }),
  z.object({ action: z.literal('copy-page-files') }),
  z.object({ action: z.literal('take-every') }),
  z.object({ action: z.literal('check-maps') }),
  z.object({ action: z.literal('skip-map-check') }),
  z.object({ action: z.literal('reset-later') }),
  z.object({ action: z.literal('choose'), choices: CopyChoicesChangeSchema }),
  z.object({
    action: z.literal('skip'),
    item: z.string().max(120),
    reason: z.string().trim().min(10, 'Say in a few words why it may start all the same').max(300),
  }),
  z.object({ action: z.literal('when-done'), whenDone: z.enum(['stay', 'power-off']) }),
])

/** Does what an item of the list offers. */
export async function readyAction(moveId: string, input: unknown): Promise<void> {
  const request = ReadyActionSchema.parse(input)
  const move = await loadMove(moveId)
  const now = move.row.ready ?? UNTOUCHED
  const at = Math.round(await benchNow())
  const choose = async (choices: Partial<CopyChoices>) => {
    await refuseWhileCopying(moveId)
    await saveStationResults(moveId, {
      ready: { ...now, choices: CopyChoicesSchema.parse({ ...now.choices, ...choices }) },
    })
  }
  /** Changes the computer, remembers what was turned off in it, and says so in the logbook. */
  const turnOff = (
    computer: Computer,
    changes: Partial<Computer>,
    { what, line }: { what?: (typeof now.turnedOff)[number] | undefined; line: string },
  ) =>
    inTransaction(async () => {
      await changeComputer(computer.id, changes)
      await saveStationResults(moveId, what ? { ready: { ...now, turnedOff: [...now.turnedOff, what] } } : {}, line)
    })
  const tell = (item: string, line: LogWords, said: { title?: string; reason?: string } = {}) =>
    saveStationResults(
      moveId,
      { ready: { ...now, acknowledged: { ...now.acknowledged, [item]: { at, ...said } } } },
      line,
    )
  switch (request.action) {
    case 'look-again':
      return
    case 'plug-in': {
      return turnOff(await copier(move), { mains: true }, { line: 'mains plugged in' })
    }
    case 'start-stick':
      return startFromStick(move)
    case 'start-system': {
      const computer = await copier(move)
      if (!computer.mains) throw new Refusal('computer-no-mains', { computer: computer.name })
      return turnOff(computer, { running: 'system' }, { line: `${computer.name} started from its own drive` })
    }
    case 'close-program': {
      const computer = await copier(move)
      const program = computer.programs.find((p) => p.id === request.of)
      if (!program) throw new Refusal('program-unknown')
      const programs = computer.programs.map((p) => (p.id === program.id ? { ...p, running: false } : p))
      const { id: of, name } = program
      const what = { computerId: computer.id, what: 'program', of, name, minutes: null } as const
      return turnOff(computer, { programs }, { what, line: `${name} closed` })
    }
    case 'go-offline': {
      const computer = await copier(move)
      const what = { computerId: computer.id, what: 'network', of: '', name: 'Network', minutes: null } as const
      return turnOff(computer, { online: false }, { what, line: `network of the ${computer.name} turned off` })
    }
    case 'no-sleep': {
      const computer = await copier(move)
      const minutes = computer.sleepMinutes
      const slept = { computerId: computer.id, what: 'sleep', of: '', name: 'Sleep', minutes } as const
      const what = minutes === null ? undefined : slept
      return turnOff(computer, { sleepMinutes: null }, { what, line: `sleep of the ${computer.name} turned off` })
    }
    case 'waive-backup':
      return tell('backup', 'no backup, the customer knows')
    case 'reset-later':
      return tell('generalised', 'what belongs to the old computer is let go of in Proof')
    case 'skip-page-files':
    case 'copy-page-files':
      return choose({ skipPageFiles: request.action === 'skip-page-files' })
    case 'skip-map-check':
      return choose({ mapsUnchecked: true })
    case 'check-maps':
      await refuseWhileCopying(moveId)
      if (!mapCheckProgress(moveId)) await startMapChecks(moveId)
      return choose({ mapsUnchecked: false })
    case 'take-every': {
      const { source } = await loadLeg(move)
      const bad = source.partitions.filter((p) => p.findings.some((f) => f.severity === 'damage'))
      return choose({ everyOf: bad.map((p) => p.number) })
    }
    case 'choose':
      return choose(request.choices)
    case 'skip': {
      const items = obstacleOf(move) ? await readyAhead(move) : (await readyState(move, await loadLeg(move))).items
      const item = items.find((i) => i.id === request.item)
      if (!item || item.state === 'settled') throw new Refusal('nothing-in-the-way')
      if (!item.overridable) throw new Refusal('cannot-be-skipped', { item: item.title })
      const line = { text: `skipped: ${item.title} ${request.reason}`, tone: 'bad' } as const
      return tell(item.id, line, { title: item.title, reason: request.reason })
    }
    case 'when-done':
      await saveStationResults(moveId, { ready: { ...now, whenDone: request.whenDone } })
  }
}

/** The computer that copies. */
async function copier(move: Move): Promise<Computer> {
  const transfer = await transferNow(move)
  const computer = move.bench.computers.find((c) => c.id === transfer.by)
  if (!computer) throw new Refusal('no-copying-computer')
  return computer
}

async function transferNow(move: Move): Promise<LegNow['transfer']> {
  const progress = await progressOf(move.row)
  if (!progress) throw new Refusal('no-route')
  return progress.legs[progress.leg].transfer
}

async function startFromStick(move: Move): Promise<void> {
  const transfer = await transferNow(move)
  const computer = await copier(move)
  if (!computer.mains) throw new Refusal('computer-no-mains', { computer: computer.name })
  const left = { actions: [{ do: 'start', computerId: computer.id, from: 'stick' } as const, transfer] }
  const off = { ...computer, running: 'off' as const }
  const bench = { ...move.bench, computers: move.bench.computers.map((c) => (c.id === computer.id ? off : c)) }
  const why = whyItFails(left, 0, await heldNow(move, bench), pairsOf(move))
  if (why) throw new Refusal('choice-not-possible', { why })
  await changeComputer(computer.id, { running: 'stick' })
  await note(move.id, `${computer.name} started from the rescue stick`)
}

async function refuseWhileCopying(moveId: string): Promise<void> {
  const copy = await latestCopy(moveId)
  if (copy?.status === 'running' || copy?.status === 'paused') throw new Refusal('copy-running')
}

/** What the copy will take on this host: what the source takes, and some for grown records. */
async function hostBytes(from: Medium, usedBytes: number): Promise<number> {
  if (driveUnder(from)?.borrowed) {
    // What is zeros there takes no room here either.
    const written = await withMedium(from, async (device) => (await device.mapped?.(0, device.size)) ?? null)
    const bytes = written ? written.reduce((sum, extent) => sum + extent.length, 0) : usedBytes
    return Math.min(bytes, usedBytes) + 64 * MIB
  }
  const { blocks } = await stat(hostFileOf(from))
  // Blocks are counted in 512 bytes whatever the host's file system has.
  return blocks * 512 + 64 * MIB
}
