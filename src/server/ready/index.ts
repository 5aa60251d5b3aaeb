import { stat, statfs } from 'node:fs/promises'
import { z } from 'zod'
import { MIB } from '@/core/bytes/size'
import { readMarker } from '@/core/copy/marker'
import { openCount, type ReadyItem, readyItems } from '@/core/ready/items'
import { fingerprintOf } from '@/core/survey/survey'
import { changeComputer, driveBytes, withDrive } from '../bench'
import { note } from '../logbook'
import { keep, loadMove, type Move, plateOf } from '../move'
import { dataFolder } from '../paths'
import { Refusal } from '../refusal'
import { routeFor } from '../route'
import { clockTime } from '../words'

/** The list as the facts are this moment. */
export interface ReadyState {
  readonly items: readonly ReadyItem[]
  readonly open: number
  readonly whenDone: 'stay' | 'power-off'
  readonly targetFingerprint: string
}

/** What the copy writes into the target's first sector; tells a target of this move from any other. */
export function copyNote(move: Move): string {
  return `${move.brief.name}, ${move.brief.customer}, from ${move.source.serial}`.replace(/[^\x20-\x7e]/g, '?')
}

/** Looks at everything that has to be true before the copy may start. */
export async function readyState(move: Move): Promise<ReadyState> {
  const { row, computer, bench } = move
  const { survey, fit } = row
  if (!survey || !fit) throw new Refusal('Lock a fit first.')
  const source = plateOf(move.source, bench)
  const target = plateOf(move.target, bench)
  const sourcePrint = await withDrive(move.source, fingerprintOf)
  const [targetPrint, marker] = await withDrive(
    move.target,
    async (device) => [await fingerprintOf(device), await readMarker(device)] as const,
  )
  const stick = bench.accessories.find((a) => a.kind === 'stick')
  const host = await statfs(dataFolder())
  const items = readyItems({
    source: survey.source,
    target: survey.target,
    sourceName: source.name,
    targetName: target.name,
    computerName: computer.name,
    running: computer.running,
    stickName: stick?.name ?? 'rescue stick',
    hostNeededBytes: await hostBytes(move),
    hostFreeBytes: host.bavail * host.bsize,
    backup: move.brief.backup ?? undefined,
    backupWaived: row.ready?.backupWaived ?? false,
    sourceUnchanged: sourcePrint === survey.source.fingerprint,
    // A target that an unfinished copy of this very move has marked is the one that was confirmed.
    targetUnchanged: targetPrint === survey.target.fingerprint || marker === copyNote(move),
    targetConnected: target.connected,
    sourceConnected: source.connected,
    bootMenuKey: computer.firmware.bootMenuKey,
    hasBattery: computer.chassis.hasBattery,
    mains: computer.mains,
    routeHolds: routeHolds(move),
    surveyedAt: clockTime(survey.at),
  })
  return { items, open: openCount(items), whenDone: row.ready?.whenDone ?? 'stay', targetFingerprint: targetPrint }
}

export const ReadyActionSchema = z.discriminatedUnion('action', [
  z.object({ action: z.literal('start-stick') }),
  z.object({ action: z.literal('look-again') }),
  z.object({ action: z.literal('waive-backup') }),
  z.object({ action: z.literal('when-done'), whenDone: z.enum(['stay', 'power-off']) }),
])

/** Does what an item of the list offers. */
export async function readyAction(moveId: string, input: unknown): Promise<void> {
  const request = ReadyActionSchema.parse(input)
  const move = await loadMove(moveId)
  const now = move.row.ready ?? { backupWaived: false, whenDone: 'stay' as const }
  switch (request.action) {
    case 'look-again':
      return
    case 'start-stick':
      if (!move.computer.mains) throw new Refusal(`The ${move.computer.name} has no mains power.`)
      await changeComputer(move.computer.id, { running: 'stick' })
      await note(moveId, `${move.computer.name} started from the rescue stick`)
      return
    case 'waive-backup':
      await keep(moveId, { ready: { ...now, backupWaived: true } })
      await note(moveId, 'goes on without a backup, the customer knows')
      return
    case 'when-done':
      await keep(moveId, { ready: { ...now, whenDone: request.whenDone } })
  }
}

/** True while both drives are where the route has them. */
function routeHolds(move: Move): boolean {
  const now = routeFor(move)
  const taken = move.row.route?.route.leg
  return now.works && now.route.leg.from === taken?.from && now.route.leg.to === taken.to
}

/** What the copy will take on this host: what the source takes, and some for grown records. */
async function hostBytes(move: Move): Promise<number> {
  const { blocks } = await stat(driveBytes(move.source).file)
  // Blocks are counted in 512 bytes whatever the host's file system has.
  return blocks * 512 + 64 * MIB
}
