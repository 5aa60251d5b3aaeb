import { randomBytes } from 'node:crypto'
import type { BlockDevice } from '@/core/block/device'
import type { CopyPlan } from '@/core/copy/plan'
import { type CopyOptions as RunOptions, type CopyOutcome, runCopy } from '@/core/copy/run'
import { openJournal } from '@/host/journal-file'
import { blake3 } from '@/host/strong-digest'

/** A target that is no file: what another program lends, or a drive of this computer. It keeps its size. */
export interface Onto {
  readonly device: BlockDevice
  /** As the subject of a sentence. */
  readonly called: string
  /** What is done once a copy onto it has ended; what a person has to know, in a sentence. */
  readonly after?: () => Promise<string | undefined>
  close(): Promise<void>
}

/** Carries a plan out on it, with the journal on this side. */
export async function writeOnto(
  plan: CopyPlan,
  { device }: Onto,
  {
    journal,
    resume = false,
    ...options
  }: Omit<RunOptions, 'digest' | 'journal'> & { journal?: string; resume?: boolean },
): Promise<CopyOutcome> {
  const kept = journal === undefined ? undefined : await openJournal(journal, { resume })
  try {
    const job = kept?.state?.job ?? `onto-${randomBytes(6).toString('hex')}`
    return await runCopy(plan, device, {
      ...{ ...options, digest: blake3, job },
      ...(kept ? { journal: kept, from: kept.state } : {}),
    })
  } finally {
    await kept?.close()
  }
}
