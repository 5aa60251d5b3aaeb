import { existsSync } from 'node:fs'
import { mkdir } from 'node:fs/promises'
import path from 'node:path'
import * as z from 'zod'
import { formatSize } from '@/core/bytes/size'
import { plateMatches, PLATE_CHARACTERS } from '@/core/ready/plate-check'
import type { DriveSurvey } from '@/core/survey/types'
import { type Drive, driveName } from '@/core/things/drive'
import { MoveRow } from '../../database/models'
import { log } from '../../ground/log'
import { Refusal } from '../../ground/refusals'
import type { StartedJob } from '../../jobs'
import { runTask } from '../../jobs/threads'
import { leasableDrive } from '../../leases'
import { loadMove, type Move, moveRow, saveStationResults } from '../../moves'
import { refuseAfterCopy } from '../../moves/copies'
import { startMoveJob } from '../../moves/jobs'
import { roomFile } from '../../moves/repair-files'
import { reservedDrives } from '../../moves/reserved-drives'
import { driveBytes } from '../../world'

// Room on a drive that keeps everything else, for the volume that comes: a neighbour is made smaller where it lies.

const RoomSchema = z.object({
  /** The partition that gives room. */
  neighbour: z.number().int().min(1).max(1024),
  plate: z.string().max(PLATE_CHARACTERS),
})

/** Makes a volume of the target smaller. Rejects with Refusal, nothing written, where it may not be. */
export async function makeRoom(moveId: string, input: unknown): Promise<StartedJob> {
  const { neighbour, plate } = RoomSchema.parse(input)
  const move = await loadMove(moveId)
  const { target, needs, survey } = await targetOf(move)
  if (!plateMatches(target.serial, plate)) throw new Refusal('plate-wrong', { drive: driveName(target) })
  const journal = roomFile(moveId)
  if (existsSync(journal)) throw new Refusal('room-made')
  const order = { target: driveBytes(target), fingerprint: survey.fingerprint, neighbour, bytes: needs, journal }
  const named = survey.partitions.find((p) => p.number === neighbour)?.title ?? `partition ${neighbour}`
  return startMoveJob(moveId, {
    kind: 'make-room',
    title: `Room on the ${driveName(target)}`,
    purpose: 'making room on it',
    lease: { write: [await leasableDrive(target)], needsPower: true },
    leaves: 'What was written of it is taken back, at the latest when the server starts again.',
    run: async ({ progress }) => {
      await mkdir(path.dirname(journal), { recursive: true })
      return runTask('makeRoom', order, { long: true, onProgress: ({ done, total }) => progress(done, total, named) })
    },
    save: async (now) => {
      const { sizeBytes = 0 } = now.partitions.find((p) => p.number === neighbour) ?? {}
      await keepSurvey(moveId, now, `${named} made smaller, to ${formatSize(sizeBytes)}`)
    },
  })
}

/** Gives a neighbour its room back, while nothing was copied into it. */
export async function giveRoomBack(moveId: string): Promise<StartedJob> {
  const move = await loadMove(moveId)
  const { target } = await targetOf(move)
  const journal = roomFile(moveId)
  if (!existsSync(journal)) throw new Refusal('room-not-made')
  return startMoveJob(moveId, {
    kind: 'make-room',
    title: `Giving room of the ${driveName(target)} back`,
    purpose: 'giving room back',
    lease: { write: [await leasableDrive(target)], needsPower: true },
    leaves: 'It is ended when the server starts again.',
    run: () => runTask('giveRoomBack', { target: driveBytes(target), journal }, { long: true }),
    save: (now) => keepSurvey(moveId, now, 'the room was given back'),
  })
}

/** True where room was made that can be given back. */
export const roomIsMade = (moveId: string): boolean => existsSync(roomFile(moveId))

/** The drive that is to give room, and what the volume that comes needs. Throws Refusal where nothing of it is written. */
async function targetOf(move: Move): Promise<{ target: Drive; needs: number; survey: DriveSurvey }> {
  const [{ target, volume }] = move.pairs
  const read = move.row.survey?.pairs[0]
  const moved = read?.source.partitions.find((p) => p.number === volume)
  if (!target || !read?.target || !moved) throw new Refusal('room-not-here')
  await refuseAfterCopy(move.id)
  const taken = (await reservedDrives(move.bench, move.row.benchId, move.id)).get(target.id)
  if (taken) throw new Refusal('drive-reserved', { why: taken })
  const { place } = target
  const computer = place.kind === 'slot' ? move.bench.computers.find((c) => c.id === place.computerId) : undefined
  if (computer?.running === 'system')
    throw new Refusal('room-drive-runs', { drive: driveName(target), computer: computer.name })
  return { target, needs: moved.sizeBytes, survey: read.target }
}

/** The target is another one now, on which every fit is worked out anew. */
async function keepSurvey(moveId: string, target: DriveSurvey, line: string): Promise<void> {
  const { survey } = await moveRow(moveId)
  if (!survey) return
  const [first, ...others] = survey.pairs
  await saveStationResults(moveId, { survey: { ...survey, pairs: [{ ...first, target }, ...others] }, fit: null }, line)
}

/** Takes back what a server that ended left of making room. */
export async function settleRooms(): Promise<void> {
  for (const { id } of await MoveRow.findAll({ attributes: ['id'] })) {
    const journal = roomFile(id)
    if (!existsSync(journal)) continue
    try {
      const [{ target }] = (await loadMove(id)).pairs
      if (target) await runTask('settleRoom', { target: driveBytes(target), journal }, { long: true })
    } catch (error) {
      // The drive may be gone; what would take it back is kept.
      log.error(error)
    }
  }
}
