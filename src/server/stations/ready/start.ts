import * as z from 'zod'
import type { CopyView } from '@/core/copy/view'
import type { Recheck } from '@/core/copy/source-binding'
import { plateMatches } from '@/core/ready/plate-check'
import { berthOf } from '@/core/things/bench'
import { type Drive, driveName } from '@/core/things/drive'
import { launch } from '../../copying/launch'
import { furtherDrives, leaseFor, orderFor, restFor, workerDrive, workerMedium } from '../../copying/order'
import type { Together } from '../../copying/messages'
import { CopyRow } from '../../database/models'
import { fitsLocked } from '../../database/notes'
import { saveAtLast } from '../../database/save-at-last'
import { Refusal } from '../../ground/refusals'
import { type Lease, startWithLease } from '../../leases'
import { loadMove, type Move } from '../../moves'
import { beginCopy, copyId, forgetCutOff, latestCopy, recover, running } from '../../moves/copies'
import { type LegNow, loadLeg, progressOf, togetherWith } from '../../moves/legs'
import { note } from '../../moves/logbook'
import { driveUnder, mediumWords } from '../../moves/media'
import { forgetUnnotedRepairs } from '../../moves/repair-files'
import { benchNow } from '../../world/clock'
import { readyState } from '.'

export const StartCopySchema = z.object({
  plate: z.string().max(40),
  /** What the list showed of both drives when the plate was typed. */
  seen: z.string().max(130).default(''),
  /** The plates of further drives, by drive. */
  further: z.record(z.string().max(80), z.string().max(40)).default({}),
})

/**
 * Starts the copy of a move, where `together` says so with others that read the same source. Throws Refusal, nothing
 * written, unless everything on the list is settled and the plate matches.
 */
export async function startCopy(moveId: string, input: unknown, together?: Together): Promise<void> {
  const { plate, seen, further } = StartCopySchema.parse(input)
  await recover()
  const move = await loadMove(moveId)
  const leg = await legToCopy(move)
  if (leg.from.kind === 'drive' && leg.to.kind === 'drive' && leg.from.drive.id === leg.to.drive.id)
    throw new Refusal('copy-source-is-target')
  const rest = await togetherWith(move, leg)
  await startWithLease(await leaseFor(move, leg, await furtherDrives(move), rest), (lease) =>
    startLeased(move, leg, rest, { plate, seen, further, together }, lease),
  )
}

/** Decides and starts while nobody else can take the drives. The lease goes to the copy, which releases it at its end. */
async function startLeased(
  move: Move,
  leg: LegNow,
  rest: readonly LegNow[],
  { plate, seen, further, together }: z.infer<typeof StartCopySchema> & { together?: Together },
  lease: Lease,
): Promise<void> {
  const moveId = move.id
  const ready = await readyState(move, leg)
  if (ready.open > 0) {
    const first = ready.items[0]
    throw new Refusal('not-ready', { item: first.title, why: first.why })
  }
  if (seen !== ready.seen) {
    throw new Refusal('copy-drives-changed')
  }
  // What is written is known by its plate: the target, or the drive that an image is put on.
  const written = driveUnder(leg.to)
  const plates: [Drive, string][] = [
    ...(written ? [[written, plate] as [Drive, string]] : []),
    ...ready.further.map((d): [Drive, string] => [d, further[d.id] ?? '']),
  ]
  for (const [drive, typed] of plates)
    if (!plateMatches(drive.serial, typed)) throw new Refusal('plate-wrong', { drive: driveName(drive) })
  await forgetCutOff(moveId)
  if (leg.last && leg.transfer.pair === 0 && !leg.layout.into)
    await forgetUnnotedRepairs(moveId, move.row.proof?.repairs ?? [])
  const startedAt = Math.round(await benchNow())
  const job = copyId(moveId, leg.index, startedAt)
  const { choices } = ready
  const parts = []
  for (const one of rest) parts.push(await restFor(move, one, copyId(moveId, one.index, startedAt)))
  const order = {
    ...(await orderFor(move, leg, job)),
    task: { kind: 'copy' as const },
    source: workerMedium(leg.from, ready.sourceFingerprint),
    targets: [
      workerMedium(leg.to, ready.targetFingerprint),
      ...ready.further.map((d) => workerDrive(d, ready.furtherFingerprints[d.id])),
    ],
    choices,
    ...(together ? { together } : {}),
  }
  await beginCopy({ id: job, moveId, leg: leg.index, linkKey: leg.transfer.linkKey, startedAt, choices })
  await launch(move, leg, { ...order, rest: parts }, lease, rest)
  const which = leg.of > 1 ? `leg ${leg.index + 1} of ${leg.of}` : 'copy'
  const targets = [mediumWords(leg.to), ...ready.further.map(driveName)].join(', ')
  await saveAtLast(() => note(moveId, `${which} started, ${mediumWords(leg.from)} to ${targets}`))
}

export const ResumeCopySchema = z.object({
  /** What was copied before is compared piece by piece, or a sample of it. */
  recheck: z.enum(['sample', 'every']).default('sample'),
})

/** Takes up a copy that was cut off or stopped, from what is sure of it. Throws Refusal, nothing written. */
export async function resumeCopy(moveId: string, input: unknown = {}): Promise<void> {
  const { recheck } = ResumeCopySchema.parse(input)
  await recover()
  const move = await loadMove(moveId)
  const leg = await legToCopy(move)
  const copy = await latestCopy(moveId, leg.index)
  if (!copy?.resumable) throw new Refusal('copy-not-resumable')
  const further = copy.choices.further.map((id) => {
    const drive = move.bench.drives.find((d) => d.id === id)
    if (!drive) throw new Refusal('copy-target-gone')
    return drive
  })
  await startWithLease(await leaseFor(move, leg, further), (lease) =>
    resumeLeased(move, leg, { copy, further, recheck }, lease),
  )
}

async function resumeLeased(
  move: Move,
  leg: LegNow,
  { copy, further, recheck }: { copy: CopyView; further: readonly Drive[]; recheck: Recheck },
  lease: Lease,
): Promise<void> {
  const moveId = move.id
  const ready = await readyState(move, leg)
  // A target that this very copy marked is another than when it was surveyed; the copy itself looks at its mark.
  const under = driveUnder(leg.to)
  const connected = !under || berthOf(under, move.bench).link !== undefined
  const item = ready.items.find((i) => i.state !== 'settled' && !(i.id === 'target-same' && connected))
  if (item) throw new Refusal('not-ready-to-resume', { item: item.title, why: item.why })
  const order = {
    ...(await orderFor(move, leg, copy.id)),
    task: { kind: 'copy' as const },
    source: workerMedium(leg.from, ready.sourceFingerprint),
    targets: [workerMedium(leg.to), ...further.map((d) => workerDrive(d))],
    choices: copy.choices,
    resume: { progress: copy.progress, recheck },
  }
  await CopyRow.update(
    { status: 'running', endedAt: null, message: null, resumable: false },
    { where: { id: copy.id } },
  )
  await launch(move, leg, order, lease)
  const how = recheck === 'every' ? ', every copied piece compared first' : ' from the last checkpoint'
  await saveAtLast(() => note(moveId, `copy resumed${how}`))
}

/** The leg that is to be copied. Throws Refusal when there is none. */
async function legToCopy(move: Move): Promise<LegNow> {
  if (running().has(move.id)) throw new Refusal('copy-running-already')
  if (!fitsLocked(move.row) || !move.row.route) throw new Refusal('no-locked-fit')
  const progress = (await progressOf(move.row))!
  if (progress.copied === progress.legs.length) throw new Refusal('copy-all-done')
  return loadLeg(move)
}
