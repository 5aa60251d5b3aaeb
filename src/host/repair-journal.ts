import path from 'node:path'
import { CoreError } from '@/core/errors'
import { type RepairJournal, type RepairRecord, RepairRecordSchema } from '@/core/repair/apply'
import { jsonIn, writeWhole } from './whole-file'

/** A repair's journal in a file that is whole at any instant: the new text takes the old one's place once it is stored. */
export function repairJournal(file: string): RepairJournal {
  return {
    keep: (text) => writeWhole(file, text),
  }
}

/** What such a file keeps, or undefined where there is none. Rejects with CoreError when it does not hold together. */
export async function repairIn(file: string): Promise<RepairRecord | undefined> {
  const found = await jsonIn(file)
  if (!found) return undefined
  const parsed = RepairRecordSchema.safeParse(found.value)
  if (!parsed.success) throw new CoreError(`${path.basename(file)} is not the journal of a repair, or was changed.`)
  return parsed.data
}
