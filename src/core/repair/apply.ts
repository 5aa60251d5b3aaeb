import * as z from 'zod'
import { type BlockDevice, readBytes } from '../block/device'
import { fromBase64, toBase64 } from '../bytes/base64'
import { sameBytes } from '../bytes/same'
import { CoreError } from '../errors'
import type { Patch, RepairPlan } from './port'

/** What is kept of a repair: before a byte is written, so that it happens whole or not at all, and after, to undo it. */
export interface RepairJournal {
  /** Makes this safe on the host before it resolves. */
  keep(text: string): Promise<void>
}

/** A repair was cut off, and what it was written to holds something else by now. */
export class ChangedSinceRepair extends CoreError {
  override readonly name = 'ChangedSinceRepair'
  constructor() {
    super(
      'A repair of this drive was cut off, and the drive has changed since. It was left as it is; nothing more is written to it.',
    )
  }
}

/** What stood on a drive was written there again, and the drive does not give it back. */
export class NotPutBack extends CoreError {
  override readonly name = 'NotPutBack'
  constructor() {
    super(
      'What stood there before was written again, and the drive does not give it back. The journal still keeps it; the drive is not to be trusted.',
    )
  }
}

const bytes = z.base64().transform(fromBase64)
/** A patch as it is kept: its bytes in base64. */
export const PatchSchema = z.object({ offset: z.number().int().nonnegative(), before: bytes, after: bytes })
export const RepairRecordSchema = z.object({
  kind: z.literal('repair'),
  name: z.string().max(60),
  title: z.string().max(200),
  changes: z.array(z.string().max(1000)).max(50),
  state: z.enum(['writing', 'done', 'undone']),
  patches: z.array(PatchSchema).max(100_000),
})
export type RepairRecord = z.infer<typeof RepairRecordSchema>

/**
 * Writes a repair: journal first, then the sectors, then reads them back. Rejects with CoreError, nothing written,
 * where the drive no longer is as it was planned for; and where it does not give back what was written, after
 * putting everything back.
 */
export async function applyRepair(
  device: BlockDevice,
  plan: RepairPlan,
  journal: RepairJournal,
): Promise<RepairRecord> {
  for (const { offset, before } of plan.patches) {
    if (!sameBytes(await readBytes(device, offset, before.length), before))
      throw new CoreError('The drive has changed since the repair was worked out. Nothing was written.')
  }
  const record: RepairRecord = {
    kind: 'repair',
    name: plan.name,
    title: plan.title,
    changes: [...plan.changes],
    state: 'writing',
    patches: plan.patches.map((p) => ({ ...p })),
  }
  await journal.keep(recordText(record))
  await writePatches(device, record.patches, 'after')
  if (!(await patchesStand(device, record.patches, 'after'))) {
    await putBack(device, record, journal)
    throw new CoreError('The drive does not give back what the repair wrote, so it was undone.')
  }
  const done = { ...record, state: 'done' as const }
  await journal.keep(recordText(done))
  return done
}

/**
 * Puts back what stood there. Rejects with CoreError where the drive no longer is as the repair left it, and with
 * NotPutBack.
 */
export async function undoRepair(device: BlockDevice, record: RepairRecord, journal: RepairJournal): Promise<void> {
  if (record.state === 'done' && !(await patchesStand(device, record.patches, 'after'))) {
    throw new CoreError('The drive has changed since it was repaired, so the repair cannot be undone.')
  }
  await journal.keep(recordText({ ...record, state: 'writing' }))
  await putBack(device, record, journal)
}

/**
 * Ends a repair that was cut off: every sector goes back to what it was. True when there was something to end.
 * Rejects with ChangedSinceRepair where a sector holds neither what was nor what was to be, and with NotPutBack.
 */
export async function settleRepair(
  device: BlockDevice,
  record: RepairRecord,
  journal: RepairJournal,
): Promise<boolean> {
  if (record.state !== 'writing') return false
  for (const { offset, before, after } of record.patches) {
    const now = await readBytes(device, offset, before.length)
    // A sector that was being written when power went may hold a part of each.
    const either = now.every((byte, i) => byte === before[i] || byte === after[i])
    if (!either) {
      throw new ChangedSinceRepair()
    }
  }
  await putBack(device, record, journal)
  return true
}

/** Writes what stood there and reads it back; only then it counts as undone. */
async function putBack(device: BlockDevice, record: RepairRecord, journal: RepairJournal): Promise<void> {
  await writePatches(device, record.patches, 'before')
  if (!(await patchesStand(device, record.patches, 'before'))) throw new NotPutBack()
  await journal.keep(recordText({ ...record, state: 'undone' }))
}

/** Whether a repair that was made is on the drive as it was written, so that it can be undone. */
export async function repairStands(device: BlockDevice, { state, patches }: RepairRecord): Promise<boolean> {
  return state === 'done' && patchesStand(device, patches, 'after')
}

/** A record as it is kept. */
export function recordText(record: RepairRecord): string {
  return JSON.stringify({ ...record, patches: record.patches.map(keptPatch) })
}

/** What `PatchSchema` reads. */
export const keptPatch = ({ offset, before, after }: Patch) => ({
  offset,
  before: toBase64(before),
  after: toBase64(after),
})

/** Writes one side of patches, and makes it safe; what is read from then on comes from the medium. */
export async function writePatches(
  device: BlockDevice,
  patches: readonly Patch[],
  which: 'before' | 'after',
): Promise<void> {
  for (const patch of patches) await device.write(patch.offset, patch[which])
  await device.flush()
  await device.uncache?.()
}

/** Whether one side of patches is on a device. */
export async function patchesStand(
  device: BlockDevice,
  patches: readonly Patch[],
  which: 'before' | 'after',
): Promise<boolean> {
  for (const patch of patches) {
    if (!sameBytes(await readBytes(device, patch.offset, patch[which].length), patch[which])) return false
  }
  return true
}
