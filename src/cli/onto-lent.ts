import { randomBytes } from 'node:crypto'
import { type CopyOptions as RunOptions, type CopyOutcome, runCopy } from '@/core/copy/run'
import type { CopyPlan } from '@/core/copy/plan'
import { CoreError } from '@/core/errors'
import { surveyDrive } from '@/core/survey/survey'
import { openJournal } from '@/host/journal-file'
import { sha256 } from '@/host/sha256'
import { blake3 } from '@/host/strong-digest'
import { keyFor, nbdAddress } from '@/nbd/address'
import { NbdFile } from '@/nbd/client'
import { LentDevice } from '@/nbd/device'
import type { Io } from './commands'
import { keyOf, type Opening, WrongUse } from './open'

/** A disk that another program lends to be written over. */
export interface LentTarget {
  readonly device: LentDevice
  close(): Promise<void>
}

/** Opens what is lent as a target. Rejects with WrongUse where it holds something and that was not meant. */
export async function openLentTarget(
  uri: string,
  sectorSize: 512 | 4096,
  options: Opening & { readonly overwrite?: boolean; readonly resume?: boolean },
  io: Io,
): Promise<LentTarget> {
  const address = nbdAddress(uri)
  const key = await keyFor(address, await keyOf(options))
  const onLink = (isThere: boolean) =>
    io.warn(isThere ? 'The connection is there again.' : 'The connection is lost, and taken up again.')
  const file = await NbdFile.open(address, { key, onLink })
  try {
    if (file.isReadOnly) throw new CoreError('That is lent for reading only, so nothing can be copied onto it.')
    if (file.minimumBytes > 4096)
      throw new CoreError(
        `That is lent in blocks of ${file.minimumBytes} bytes, and what is copied is written in sectors of at most 4096.`,
      )
    const device = new LentDevice(file, file.minimumBytes > 512 ? 4096 : sectorSize)
    if (!options.overwrite && !options.resume) {
      const { scheme, findings } = await surveyDrive(device, sha256)
      if (scheme !== 'none' || findings.length > 0)
        throw new WrongUse('What is lent there is not empty. With --overwrite all that it holds is lost.')
    }
    return { device, close: () => file.close() }
  } catch (error) {
    await file.close()
    throw error
  }
}

/** Carries a plan out on what is lent, with the journal on this side. */
export async function writeOntoLent(
  plan: CopyPlan,
  { device }: LentTarget,
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
