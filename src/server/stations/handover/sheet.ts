import { SHOP } from '@/bench/scenario/things'
import { roomUnused } from '@/core/fit/explain'
import { fitSizes } from '@/core/fit/types'
import type { Sheet } from '@/core/handover/sheet'
import type { BenchState } from '@/core/things/bench'
import type { Computer } from '@/core/things/computer'
import { driveName } from '@/core/things/drive'
import { calendarDay, clockSeconds, clockTime, dayWithYear } from '../../ground/words'
import { type Move, oldDriveStays, retiresSources } from '../../moves'
import { mediumRead, mediumWritten, type Progress } from '../../moves/legs'
import { mediumWords } from '../../moves/media'
import { stillOff } from '../../moves/turned-off'
import { benchName, benchShop } from '../../world'
import { DEMO_BENCH } from '../../world/make'

/** What the move came to; undefined while the computer has not started from the new drive. */
export async function sheetOf(move: Move, progress: Progress | undefined): Promise<Sheet | undefined> {
  const { row, brief, bench, computer, goal, pairs } = move
  const trial = row.proof?.trials.at(-1)
  if (!progress || !row.fit || !row.survey || !trial?.trace.starts || trial.subject !== 'target') return undefined
  const copies = progress.copies.flatMap((c) => (c?.summary ? [{ ...c, summary: c.summary }] : []))
  if (copies.length < progress.legs.length) return undefined
  const layouts = row.fit.pairs.map((p) => p!.layout)
  const ended = copies.at(-1)!.endedAt
  return {
    format: 'imbarco sheet',
    version: 1,
    // The demo's shop is known by its place; any other bench by its own name.
    shop: row.handover?.shop ?? (await shopOf(row.benchId)),
    move: { name: brief.name, customer: brief.customer, reason: brief.reason },
    computer: { name: computer.name, model: computer.model },
    onto: goal && goal.id !== computer.id ? { name: goal.name, model: goal.model } : null,
    machine: goal?.virtual ? machineOf(goal, bench) : null,
    by: row.handover?.by || null,
    handedOver: row.handover && {
      day: row.handover.day ? dayWithYear(row.handover.day) : calendarDay(row.handover.at),
      time: clockTime(row.handover.at),
    },
    day: calendarDay(copies[0].startedAt),
    started: clockSeconds(copies[0].startedAt),
    ended: ended === null ? '' : clockSeconds(ended),
    drives: pairs.flatMap(({ source, target, volume }, i) =>
      target
        ? [
            {
              from: { name: driveName(source), serial: source.serial },
              to: { name: driveName(target), serial: target.serial },
              ...(volume === undefined ? {} : { volume: { from: volume, to: layouts[i].partitions[0].number } }),
            },
          ]
        : [],
    ),
    legs: copies.map(({ summary }, i) => {
      const [from, to] = [mediumRead(move, progress.legs, i), mediumWritten(move, progress.legs[i].transfer, i)]
      return { number: i + 1, title: `${mediumWords(from)} to ${mediumWords(to)}`, summary }
    }),
    partitions: layouts.flatMap((layout, i) =>
      layout.partitions.map((p) => {
        const { before, after } = fitSizes(p, layout)
        const now = grown(move, i, p.number) ?? after
        return { key: `${i}-${p.number}`, title: p.title, before, after: now, usedBytes: p.usedBytes }
      }),
    ),
    start: { time: clockTime(trial.at), links: trial.trace.links, checks: trial.checks },
    repairs: (row.proof?.repairs ?? [])
      .filter((r) => !r.undone)
      .map(({ title, changes, grows, know }) => ({ title, changes, know, grows: grows !== undefined })),
    skipped: Object.values(row.ready?.acknowledged ?? {}).flatMap(({ title, reason }) =>
      title && reason ? [{ title, reason }] : [],
    ),
    speeds: trial.speeds,
    stillOff: stillOff(move).map((o) => o.title),
    roomUnused: layouts.flatMap((layout, i) =>
      layout.partitions.flatMap((p) => {
        const source = row.survey!.pairs[i].source.partitions.find((s) => s.number === p.sourceNumber)
        return source && grown(move, i, p.number) === undefined ? (roomUnused(source, p, layout) ?? []) : []
      }),
    ),
    oldDriveStays: oldDriveStays(move),
    keptUntil: row.handover && retiresSources(move) ? dayWithYear(row.handover.shelfUntil) : null,
  }
}

/** What a virtual machine has, as it is handed over. */
function machineOf(
  { virtual, firmware, memoryBytes, processors, networkCards }: Computer,
  bench: BenchState,
): Sheet['machine'] {
  return {
    host: bench.accessories.find((a) => a.id === virtual?.hostId)?.name ?? 'host',
    firmware: firmware.mode,
    leastMemoryBytes: virtual?.leastMemoryBytes ?? memoryBytes,
    memoryBytes,
    processors: processors.count * processors.cores,
    cards: networkCards.map(({ name, unplugged, vlan }) => ({
      name,
      connected: unplugged !== true,
      vlan: vlan ?? null,
    })),
  }
}

/** Name and address of the shop, as somebody has said; else where the demo's is, or the name of the bench. */
async function shopOf(benchId: string): Promise<string> {
  return (await benchShop(benchId)) ?? (benchId === DEMO_BENCH.id ? SHOP : await benchName(benchId))
}

/** What a partition became when it took up more room after the copy. */
function grown({ row, pairs }: Move, pair: number, partition: number): number | undefined {
  return row.proof?.repairs.findLast(
    (r) => !r.undone && r.driveId === pairs[pair].target?.id && r.grows?.partition === partition,
  )?.grows?.sizeBytes
}
