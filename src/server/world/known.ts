import { diskIdentity } from '@/core/survey/identity'
import { type RoomForImages, roomForImages } from '@/core/survey/room-for-images'
import { contentWords } from '@/core/survey/words'
import { type Drive, hasBytes } from '@/core/things/drive'
import { publish } from '../ground/events'
import { refusedFor } from '../ground/answer'
import { singleton } from '../ground/singleton'
import { runTask } from '../jobs/threads'
import { driveBytes, driveSubject } from '.'
import { stampOfDrive } from './kept-readings'

/** What a drive holds, in few words and facts, for where no whole survey is shown. */
export interface Known {
  /** The system on it, or what else it holds. */
  readonly holds: string
  readonly isSystem: boolean
  /** Each system on it, with its partition. */
  readonly systems: readonly { readonly partition: number; readonly title: string; readonly name: string }[]
  readonly isEmpty: boolean
  /** What its disk is told apart by; undefined where it has no table that reads. */
  readonly identity: string | undefined
  /** The volume that takes the largest image; undefined when none takes one. */
  readonly room: RoomForImages | undefined
}

interface Kept {
  readonly stamp: string
  /** When its file was last looked at, in real milliseconds. */
  lookedAt: number
  readonly known: Promise<Known>
}

/** A list of very many drives says what was so within this time. */
const FRESH_MS = 1000

const kept = () => singleton('known-drives', () => new Map<string, Kept>())

/** Reads what a drive holds, once for as long as its file stays the same; whether it has is looked at again after `freshMs`. */
export async function knownOf(drive: Drive, freshMs = 0): Promise<Known> {
  const nothing = { isSystem: false, systems: [], isEmpty: false, identity: undefined, room: undefined }
  if (!hasBytes(drive)) return { holds: 'only described; there are no bytes to read', ...nothing }
  try {
    const earlier = kept().get(drive.id)
    if (earlier && performance.now() - earlier.lookedAt < freshMs) return await earlier.known
    const stamp = await stampOfDrive(driveBytes(drive))
    const before = kept().get(drive.id)
    if (before?.stamp === stamp) {
      before.lookedAt = performance.now()
      return await before.known
    }
    const known = read(drive)
    kept().set(drive.id, { stamp, known, lookedAt: performance.now() })
    return await known
  } catch (error) {
    kept().delete(drive.id)
    return { holds: refusedFor(error).sentence, ...nothing }
  }
}

/** So many drives are waited for; of more, those that are not known yet are read while the page is shown already. */
const MOST_WAITED_FOR = 20
const WAIT_MS = 50

const NOT_READ: Known = {
  ...{ holds: 'being read', isSystem: false, systems: [], isEmpty: false },
  ...{ identity: undefined, room: undefined },
}

/** What drives hold. Of very many, only what is known by now; the rest is being read, and pages are told when that is done. */
export async function knownSoon(drives: readonly Drive[]): Promise<Known[]> {
  if (drives.length <= MOST_WAITED_FOR) return Promise.all(drives.map((drive) => knownOf(drive)))
  const asked = drives.map((drive) => knownOf(drive, FRESH_MS))
  let late = false
  const soon = new Promise<undefined>((resolve) => setTimeout(resolve, WAIT_MS))
  const found = await Promise.all(
    asked.map(async (one) => {
      const known = await Promise.race([one, soon])
      late ||= known === undefined
      return known ?? NOT_READ
    }),
  )
  if (late) void Promise.all(asked).then(() => publish({ type: 'changed', moveId: null }))
  return found
}

async function read(drive: Drive): Promise<Known> {
  const survey = await runTask('surveySubject', driveSubject(drive))
  const systems = survey.partitions.flatMap(({ number: partition, title, system }) =>
    system ? [{ partition, title, name: system.name }] : [],
  )
  return {
    systems,
    holds: systems.length > 0 ? systems.map((s) => s.name).join(' and ') : contentWords(survey),
    isSystem: systems.length > 0 || survey.partitions.some((p) => p.role === 'boot'),
    isEmpty: survey.scheme === 'none',
    identity: diskIdentity(survey),
    room: roomForImages(survey),
  }
}
