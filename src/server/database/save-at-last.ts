import { log } from '../ground/log'

const AGAIN_AFTER_MS = 2000

/**
 * Stores what has happened and cannot be refused any more, such as the end of a job: where the disk does not take it,
 * it is tried again until it does. Resolves after the first attempt, with false where that failed.
 */
export async function saveAtLast(save: () => Promise<unknown>): Promise<boolean> {
  try {
    await save()
    return true
  } catch (error) {
    log.error(error)
    setTimeout(() => void saveAtLast(save), AGAIN_AFTER_MS).unref()
    return false
  }
}
