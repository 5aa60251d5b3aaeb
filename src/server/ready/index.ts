import { stat, statfs } from 'node:fs/promises'
import { z } from 'zod'
import { MIB } from '@/core/bytes/size'
import { readMarker } from '@/core/copy/marker'
import { movedPartitions } from '@/core/fit/ends'
import { openCount, readyItems } from '@/core/ready/items'
import type { ReadyItem } from '@/core/ready/port'
import { whyItFails } from '@/core/route/play'
import { fingerprintOf } from '@/core/survey/survey'
import { placeKey } from '@/core/things/bench'
import type { Drive } from '@/core/things/drive'
import { changeComputer, driveBytes, withDrive } from '../bench'
import { note } from '../logbook'
import { keep, loadMove, type Move, plateOf } from '../move'
import { type LegNow, loadLeg, type Progress, progressOf } from '../move/legs'
import { dataFolder } from '../paths'
import { Refusal } from '../refusal'
import { pairsOf } from '../route'
import { heldNow } from '../route/trouble'
import { clockTime, dayWords } from '../words'

/** The list as the facts are this moment. */
export interface ReadyState {
  readonly sourceFingerprint: string
  readonly items: readonly ReadyItem[]
  readonly open: number
  readonly whenDone: 'stay' | 'power-off'
  readonly targetFingerprint: string
}

/** What the copy writes into the target's first sector; tells a target of this move from any other. */
export function copyNote(move: Move, leg: Pick<LegNow, 'from'>): string {
  return `${move.brief.name}, ${move.brief.customer}, from ${leg.from.serial}`.replace(/[^\x20-\x7e]/g, '?')
}

/** Looks at everything that has to be true before the copy of a leg may start. */
export async function readyState(move: Move, leg: LegNow): Promise<ReadyState> {
  const { row, bench } = move
  if (!row.survey) throw new Refusal('Read the drives in Survey first.')
  const source = plateOf(leg.from, bench)
  const target = plateOf(leg.to, bench)
  const sourcePrint = await withDrive(leg.from, fingerprintOf)
  const [targetPrint, marker] = await withDrive(
    leg.to,
    async (device) => [await fingerprintOf(device), await readMarker(device)] as const,
  )
  const progress = (await progressOf(row))!
  // A drive that a leg before wrote is known by what that leg left on it.
  const before = progress.copies.slice(0, leg.index).findLast((_, i) => writes(progress, i, leg.from.id))
  const sourceWanted = before?.summary?.targetFingerprint ?? leg.source.fingerprint
  const stick = bench.accessories.find((a) => a.kind === 'stick')
  const runner = bench.computers.find((c) => c.id === leg.transfer.by)
  const host = await statfs(dataFolder())
  const places = [leg.transfer.from, leg.transfer.to].every((h, i) => {
    const drive = i === 0 ? leg.from : leg.to
    return h.kind === 'drive' && placeKey(h.place) === placeKey(drive.place)
  })
  const handsFirst = progress.phase !== undefined && progress.phase === progress.copied
  const items = readyItems({
    source: leg.source,
    target: leg.target,
    sourceName: source.name,
    targetName: target.name,
    computer: runner && {
      name: runner.name,
      running: runner.running,
      bootMenuKey: runner.firmware.bootMenuKey,
      hasBattery: runner.chassis.hasBattery,
      mains: runner.mains,
    },
    hostName: bench.accessories.find((a) => a.id === leg.transfer.by)?.name,
    stickName: stick?.name ?? 'rescue stick',
    hostNeededBytes: await hostBytes(leg.from),
    hostFreeBytes: host.bavail * host.bsize,
    backup: move.brief.backup ? { where: move.brief.backup.where, date: dayWords(move.brief.backup.date) } : undefined,
    backupWaived: row.ready?.backupWaived ?? false,
    sourceUnchanged: sourcePrint === sourceWanted,
    // A target that an unfinished copy of this very move has marked is the one that was confirmed.
    targetUnchanged: targetPrint === leg.target.fingerprint || marker === copyNote(move, leg),
    targetConnected: target.connected,
    sourceConnected: source.connected,
    handsFirst,
    routeHolds: places,
    surveyedAt: clockTime(row.survey.at),
    leftOut: movedPartitions(leg.source).filter((p) => !leg.layout.partitions.some((q) => q.sourceNumber === p.number)),
  })
  return {
    items,
    open: openCount(items),
    whenDone: row.ready?.whenDone ?? 'stay',
    targetFingerprint: targetPrint,
    sourceFingerprint: sourceWanted,
  }
}

function writes({ legs }: Progress, index: number, driveId: string): boolean {
  const { to } = legs[index].transfer
  return to.kind === 'drive' && to.driveId === driveId
}

export const ReadyActionSchema = z.discriminatedUnion('action', [
  z.object({ action: z.literal('start-stick') }),
  z.object({ action: z.literal('plug-in') }),
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
    case 'plug-in': {
      const { transfer } = await loadLeg(move)
      await changeComputer(transfer.by, { mains: true })
      await note(moveId, 'mains plugged in')
      return
    }
    case 'start-stick': {
      const leg = await loadLeg(move)
      const computer = move.bench.computers.find((c) => c.id === leg.transfer.by)
      if (!computer) throw new Refusal('No computer of this move is started from the stick.')
      if (!computer.mains) throw new Refusal(`The ${computer.name} has no mains power.`)
      const left = { actions: [{ do: 'start', computerId: computer.id, from: 'stick' } as const, leg.transfer] }
      const off = { ...computer, running: 'off' as const }
      const bench = { ...move.bench, computers: move.bench.computers.map((c) => (c.id === computer.id ? off : c)) }
      const why = whyItFails(left, 0, await heldNow(move, bench), pairsOf(move))
      if (why) throw new Refusal(why)
      await changeComputer(computer.id, { running: 'stick' })
      await note(moveId, `${computer.name} started from the rescue stick`)
      return
    }
    case 'waive-backup':
      await keep(moveId, { ready: { ...now, backupWaived: true } })
      await note(moveId, 'goes on without a backup, the customer knows')
      return
    case 'when-done':
      await keep(moveId, { ready: { ...now, whenDone: request.whenDone } })
  }
}

/** What the copy will take on this host: what the source takes, and some for grown records. */
async function hostBytes(source: Drive): Promise<number> {
  const { blocks } = await stat(driveBytes(source).file)
  // Blocks are counted in 512 bytes whatever the host's file system has.
  return blocks * 512 + 64 * MIB
}
