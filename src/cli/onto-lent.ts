import { randomBytes } from 'node:crypto'
import { type CopyOptions as RunOptions, type CopyOutcome, runCopy } from '@/core/copy/run'
import type { CopyPlan } from '@/core/copy/plan'
import { surveyDrive } from '@/core/survey/survey'
import { openJournal } from '@/host/journal-file'
import { type LentDisk, openLent } from '@/host/lent'
import { sha256 } from '@/host/sha256'
import { blake3 } from '@/host/strong-digest'
import type { Io } from './commands'
import { keyOf, type Opening, WrongUse } from './open'

/** Opens what is lent as a target. Rejects with WrongUse where it holds something and that was not meant. */
export async function openLentTarget(
  uri: string,
  sectorSize: 512 | 4096,
  options: Opening & { readonly overwrite?: boolean; readonly resume?: boolean },
  io: Io,
): Promise<LentDisk> {
  const onLink = (isThere: boolean) =>
    io.warn(isThere ? 'The connection is there again.' : 'The connection is lost, and taken up again.')
  const lent = await openLent(uri, { key: await keyOf(options), onLink, writable: true, sectorSize })
  try {
    if (!options.overwrite && !options.resume) {
      const { scheme, findings } = await surveyDrive(lent.device, sha256)
      if (scheme !== 'none' || findings.length > 0)
        throw new WrongUse('What is lent there is not empty. With --overwrite all that it holds is lost.')
    }
    return lent
  } catch (error) {
    await lent.close()
    throw error
  }
}

/** Carries a plan out on what is lent, with the journal on this side. */
export async function writeOntoLent(
  plan: CopyPlan,
  { device }: LentDisk,
  {
    journal,
    resume = false,
    ...options
  }: Omit<RunOptions, 'digest' | 'journal'> & { journal?: string; resume?: boolean },
): Promise<CopyOutcome> {
  const kept = journal === undefined ? undefined : await openJournal(journal, { resume })
  try {
    const job = kept?.state?.job ?? `lent-${randomBytes(6).toString('hex')}`
    return await runCopy(plan, device, {
      ...{ ...options, digest: blake3, job },
      ...(kept ? { journal: kept, from: kept.state } : {}),
    })
  } finally {
    await kept?.close()
  }
}
