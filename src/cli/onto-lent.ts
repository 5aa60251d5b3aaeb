import { surveyDrive } from '@/core/survey/survey'
import { openLent } from '@/host/lent'
import { sha256 } from '@/host/sha256'
import type { Io } from './commands'
import type { Onto } from './onto'
import { keyOf, type Opening, WrongUse } from './open'

/** Opens what is lent as a target. Rejects with WrongUse where it holds something and that was not meant. */
export async function openLentTarget(
  uri: string,
  sectorSize: 512 | 4096,
  options: Opening & { readonly overwrite?: boolean; readonly resume?: boolean },
  io: Io,
): Promise<Onto> {
  const onLink = (isThere: boolean) =>
    io.warn(isThere ? 'The connection is there again.' : 'The connection is lost, and taken up again.')
  const lent = await openLent(uri, { key: await keyOf(options), onLink, writable: true, sectorSize })
  try {
    if (!options.overwrite && !options.resume) {
      const { scheme, findings } = await surveyDrive(lent.device, sha256)
      if (scheme !== 'none' || findings.length > 0)
        throw new WrongUse('What is lent there is not empty. With --overwrite all that it holds is lost.')
    }
    return { ...lent, called: 'What is lent' }
  } catch (error) {
    await lent.close()
    throw error
  }
}
