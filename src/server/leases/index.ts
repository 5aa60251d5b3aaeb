import { realpathSync, statSync } from 'node:fs'
import { type Drive, driveName, hasBytes } from '@/core/things/drive'
import { openHostImage } from '@/host/images'
import { driveBytes, mayHaveChanged } from '../ground/drive-files'
import { imagesFolder } from '../ground/paths'
import { Refusal } from '../ground/refusals'
import { singleton } from '../ground/singleton'

/** Something that a job reads or writes: known by its bytes, whatever it is called. */
export interface Leasable {
  /** One key for each file that its bytes lie in. */
  readonly keys: readonly string[]
  /** As the subject of a sentence: `The Corvina S5 960 GB`. */
  readonly name: string
  readonly driveId?: string
}

export interface LeaseRequest {
  /** What it is for, as the end of "is in use by": `the copy of Ticket desk`. */
  readonly purpose: string
  /** A drive that is leased for this may be pulled all the same, as one can do at the bench. */
  readonly mayBePulled?: boolean
  /** The computer that a leased drive is in keeps its power meanwhile. */
  readonly needsPower?: boolean
  readonly read?: readonly Leasable[]
  readonly write?: readonly Leasable[]
}

export interface Lease {
  release(): void
}

interface Held extends LeaseRequest {
  readonly id: number
}

const held = () => singleton('leases', () => ({ now: new Map<number, Held>(), next: 1 }))

/**
 * Takes all that a job needs, or nothing: what is written by one is used by no other, what is read may be read by
 * several. Checked and taken in one step, without anything in between. Throws Refusal that names who has it.
 */
export function takeLease(request: LeaseRequest): Lease {
  const { now } = held()
  const { read = [], write = [] } = request
  for (const thing of write) refuseHeld(thing, [...now.values()], true)
  for (const thing of read) refuseHeld(thing, [...now.values()], false)
  for (const thing of write) {
    const same = [...read, ...write].filter((other) => other !== thing && shares(thing, other))
    if (same.length > 0) throw new Refusal('same-bytes', { thing: thing.name, other: lower(same[0].name) })
  }
  const id = held().next++
  now.set(id, { ...request, id })
  const written = write.flatMap((thing) => thing.driveId ?? [])
  return {
    release: () => {
      for (const driveId of written) mayHaveChanged(driveId)
      now.delete(id)
    },
  }
}

/** Runs `work` while it holds a lease. */
export async function withLease<T>(request: LeaseRequest, work: () => Promise<T>): Promise<T> {
  const lease = takeLease(request)
  try {
    return await work()
  } finally {
    lease.release()
  }
}

/** Starts something that keeps the lease and releases it at its own end; where it does not start, that is now. */
export async function startWithLease<T>(request: LeaseRequest, start: (lease: Lease) => Promise<T>): Promise<T> {
  const lease = takeLease(request)
  try {
    return await start(lease)
  } catch (error) {
    lease.release()
    throw error
  }
}

/** Why a drive cannot be moved by hand now, as a sentence; undefined where it can. */
export function whyNotPulled(drive: Drive): string | undefined {
  const holder = [...held().now.values()].find(
    ({ mayBePulled, read = [], write = [] }) =>
      !mayBePulled && [...read, ...write].some((thing) => thing.driveId === drive.id),
  )
  return holder && `The ${driveName(drive)} is in use by ${holder.purpose}. It stays where it is until that has ended.`
}

/** What would be cut off if a drive were pulled now, as `the copy of Ticket desk`; undefined where nothing would. */
export function cutByPulling(driveId: string): string | undefined {
  return [...held().now.values()].find(
    ({ mayBePulled, read = [], write = [] }) =>
      mayBePulled && [...read, ...write].some((thing) => thing.driveId === driveId),
  )?.purpose
}

/** What one of these drives is in use by, as `the copy of Ticket desk`; undefined where none is. */
export function driveUse(driveIds: readonly string[], { needsPower = false } = {}): string | undefined {
  return [...held().now.values()].find(
    (holder) =>
      (!needsPower || holder.needsPower) &&
      [...(holder.read ?? []), ...(holder.write ?? [])].some((t) => t.driveId && driveIds.includes(t.driveId)),
  )?.purpose
}

function refuseHeld(thing: Leasable, others: readonly Held[], alone: boolean): void {
  const holder = others.find(({ read = [], write = [] }) =>
    [...write, ...(alone ? read : [])].some((other) => shares(thing, other)),
  )
  if (holder) throw new Refusal('in-use', { thing: thing.name, purpose: holder.purpose })
}

const shares = (a: Leasable, b: Leasable) => a.keys.some((key) => b.keys.includes(key))

const lower = (name: string) => name.replace(/^The /, 'the ')

/** A drive with every file that its bytes lie in. One that is only described has none, and no two jobs share it. */
export async function leasableDrive(drive: Drive): Promise<Leasable> {
  const name = `The ${driveName(drive)}`
  const base = [`drive ${drive.id}`]
  if (!hasBytes(drive)) return { keys: base, name, driveId: drive.id }
  // Whoever lends it keeps it from others; here it is known by where it is lent.
  if (drive.borrowed) return { keys: [...base, `lent ${drive.borrowed.address}`], name, driveId: drive.id }
  // Of a device the kernel's number counts, whatever its path is; while it is away, that it is known by.
  if (drive.kernel) {
    const { key, device } = drive.kernel
    return { keys: [...base, `kernel ${key}`, ...(device ? [`device ${device.number}`] : [])], name, driveId: drive.id }
  }
  const { file, by } = driveBytes(drive)
  const files = by === 'image' ? await chainOf(file) : [file]
  return { keys: [...base, ...files.map(fileKey)], name, driveId: drive.id }
}

/** An image file with every file that it builds on. */
export async function leasableImage(file: string, name: string): Promise<Leasable> {
  return { keys: (await chainOf(file)).map(fileKey), name: `The image ${name}` }
}

/** The files of an image; only its own where it cannot be opened. */
async function chainOf(file: string): Promise<readonly string[]> {
  try {
    const image = await openHostImage(file, { within: imagesFolder() })
    await image.close()
    return image.paths
  } catch {
    return [file]
  }
}

/** A file by what it is on the disk: the same for all of its names, links too. A new file is known by its path. */
export function fileKey(file: string): string {
  try {
    const { dev, ino } = statSync(/* turbopackIgnore: true */ realpathSync(/* turbopackIgnore: true */ file), {
      bigint: true,
    })
    return `${dev}:${ino}`
  } catch {
    return file
  }
}
