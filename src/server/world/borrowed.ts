import { setTimeout as pause } from 'node:timers/promises'
import type { Borrowed, Drive } from '@/core/things/drive'
import { driveName } from '@/core/things/drive'
import { keyFor, nbdAddress } from '@/nbd/address'
import { NbdFile } from '@/nbd/client'
import { NotLent } from '@/nbd/errors'
import { database } from '../database'
import { DriveRow } from '../database/models'
import { readable } from '../database/readable'
import { mayHaveChanged } from '../ground/drive-files'
import { publish } from '../ground/events'
import { forgetLentKey, lentUri } from '../ground/lent-keys'
import { log } from '../ground/log'
import { inBenchQueue, outsideQueues } from '../ground/queue'
import { Refusal } from '../ground/refusals'
import { singleton } from '../ground/singleton'
import { runTask } from '../jobs/threads'
import { driveById, driveSubject } from '.'

// A drive that another bench lends is kept an eye on by a connection of its own, which only sees whether it is there.
// Whatever reads or writes it has connections of its own: a yes holds for all of them.

/** It is looked so often whether a connection still carries. */
const LOOK_EVERY_MS = 2000
/** What stays away is tried again after so long. */
const TRY_AGAIN_MS = 1500
/** A connection is lost where an answer takes so long. */
const PATIENCE_MS = 8000

const keepers = () => singleton('borrowed-keepers', () => new Map<string, AbortController>())

/** Asks the bench that lends a drive for it, and takes its connection up again from then on. Throws Refusal. */
export async function askForDrive(driveId: string): Promise<void> {
  const drive = await driveById(driveId)
  if (!drive.borrowed) throw new Refusal('drive-not-lent', { drive: driveName(drive) })
  if (drive.borrowed.state === 'here' || drive.borrowed.state === 'asked') return
  await say(driveId, { state: 'away' })
  keep(driveId)
}

/** Ends the connection to the bench that lends a drive. */
export async function letGoOfDrive(driveId: string): Promise<void> {
  keepers().get(driveId)?.abort()
  keepers().delete(driveId)
  await say(driveId, { state: 'not asked' })
}

/** When the server starts: what was asked for once is asked for again. */
export async function takeUpBorrowed(): Promise<void> {
  await database()
  const { found } = readable(await DriveRow.findAll(), (row) => row.data)
  for (const { id, borrowed } of found) {
    if (!borrowed || borrowed.state === 'not asked' || borrowed.state === 'refused') continue
    await say(id, { state: 'away' })
    keep(id)
  }
}

/** Begins to keep an eye on a drive whose bench was asked for it. */
export function keep(driveId: string): void {
  keepers().get(driveId)?.abort()
  const ended = new AbortController()
  keepers().set(driveId, ended)
  void outsideQueues(() => keepOn(driveId, ended.signal)).catch((error: unknown) => log.error(error))
}

async function keepOn(driveId: string, ended: AbortSignal): Promise<void> {
  const tell = async (change: Partial<Borrowed>) => {
    if (!ended.aborted) await say(driveId, change)
  }
  while (!ended.aborted) {
    let file: NbdFile | undefined
    try {
      const drive = await driveById(driveId)
      if (!drive.borrowed) return
      file = await connect(drive, ended, () => void tell({ state: 'asked' }))
      if (wholeSectors(file.size, drive.logicalSectorSize) !== drive.sizeBytes)
        throw new NotLent('Something else is lent under its name now.')
      mayHaveChanged(driveId)
      await tell({ state: 'here', writable: !file.isReadOnly })
      await measure(driveId, tell)
      await watch(driveId, file, ended)
    } catch (error) {
      if (ended.aborted) return
      if (error instanceof Refusal && error.code === 'drive-unknown') {
        keepers().delete(driveId)
        await forgetLentKey(driveId)
        return
      }
      log.info({ drive: driveId, why: error instanceof Error ? error.message : String(error) }, 'a lent drive is away')
      if (error instanceof NotLent) {
        await tell({ state: 'refused' })
        return
      }
      await tell({ state: 'away' })
      await pause(TRY_AGAIN_MS, undefined, { signal: ended }).catch(() => {})
    } finally {
      await file?.close()
    }
  }
}

async function connect(drive: Drive, signal: AbortSignal, onAsked: () => void): Promise<NbdFile> {
  const address = nbdAddress(lentUri({ id: drive.id, borrowed: drive.borrowed! }))
  const key = address.tls ? await keyFor(address, undefined) : undefined
  return NbdFile.open(address, { key, idleMs: PATIENCE_MS, patienceMs: 0, onAsked, signal })
}

/** Bytes of a disk in whole sectors: what is lent may end with a part of one. */
export const wholeSectors = (bytes: number, sectorSize: number) => bytes - (bytes % sectorSize)

/** Looks again and again whether it still answers. Rejects once it does not, or the drive is gone; returns when nobody wants to know any more. */
async function watch(driveId: string, file: NbdFile, ended: AbortSignal): Promise<void> {
  const first = new Uint8Array(Math.max(512, file.minimumBytes))
  while (!ended.aborted) {
    await pause(LOOK_EVERY_MS, undefined, { signal: ended }).catch(() => {})
    if (ended.aborted) return
    // A bench that is removed takes its drives with it.
    await driveById(driveId)
    await file.read(0, first)
  }
}

/** What the connection carries, measured where that was not done yet. */
async function measure(driveId: string, tell: (change: Partial<Borrowed>) => Promise<void>): Promise<void> {
  const drive = await driveById(driveId)
  if (!drive.borrowed || drive.borrowed.bytesPerSecond !== null) return
  try {
    const bytesPerSecond = await runTask('measureReading', driveSubject(drive))
    if (bytesPerSecond !== null) await tell({ bytesPerSecond })
  } catch (error) {
    log.warn(
      { drive: driveId, why: error instanceof Error ? error.message : String(error) },
      'a lent drive not measured',
    )
  }
}

/** Stores what is known of the connection to a drive. */
async function say(driveId: string, change: Partial<Borrowed>): Promise<void> {
  const isNew = await inBenchQueue(async () => {
    const row = await DriveRow.findByPk(driveId)
    const borrowed = row?.data.borrowed
    if (!row || !borrowed) return false
    if (Object.entries(change).every(([key, value]) => borrowed[key as keyof Borrowed] === value)) return false
    await DriveRow.update({ data: { ...row.data, borrowed: { ...borrowed, ...change } } }, { where: { id: driveId } })
    return true
  })
  if (isNew) publish({ type: 'changed', moveId: null })
}
