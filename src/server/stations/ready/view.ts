import { everyBytes } from '@/core/copy/plan'
import { healthVerdict } from '@/core/health/health'
import { platePrefix } from '@/core/ready/plate-check'
import { legSeconds } from '@/core/route/timing'
import { driveName } from '@/core/things/drive'
import { provider } from '@/outside/provider'
import { plateOf } from '../../moves'
import { type LegNow, loadLeg } from '../../moves/legs'
import { driveOf, driveUnder, mediumPlate } from '../../moves/media'
import type { MovePage } from '../../moves/page'
import { furtherCandidates, readyAhead, readyState } from '.'

/** The list of a route that this version cannot carry out. */
export async function readyAheadView({ move }: MovePage) {
  return { items: (await readyAhead(move)).map((item) => ({ ...item })) }
}

export async function readyView({ move, progress, copy }: MovePage) {
  const leg = await loadLeg(move)
  const { items, open, whenDone, choices, further, seen } = await readyState(move, leg)
  const candidates = await furtherCandidates(move, leg)
  const written = driveUnder(leg.to)
  const volumes = leg.layout.partitions.flatMap((p) => {
    const { volume } = leg.source.partitions.find((q) => q.number === p.sourceNumber) ?? {}
    // Where nobody sees what is in use, every sector is taken anyway.
    if (!volume || volume.encrypted) return []
    return [{ number: p.sourceNumber, title: p.title, usedBytes: p.usedBytes, everyBytes: everyBytes(p, leg.layout) }]
  })
  const more = volumes.filter((v) => choices.everyOf.includes(v.number))
  const bytes = {
    used: leg.transfer.bytes,
    volumes: more.reduce((sum, v) => sum + Math.max(0, v.everyBytes - v.usedBytes), leg.transfer.bytes),
    every: leg.layout.partitions.reduce((sum, p) => sum + everyBytes(p, leg.layout), 0),
  }
  const seconds = (ways: keyof typeof bytes) => legSeconds(leg.transfer.timing, bytes[ways])
  return {
    items: items.map((item) => ({ ...item })),
    open,
    /** What is switched off then; null where nothing here can be. */
    whenDone: provider().hasPower ? whenDone : null,
    seen,
    how: {
      choices,
      volumes,
      bytes,
      seconds: { used: seconds('used'), volumes: seconds('volumes'), every: seconds('every') },
      live: progress!.plan.live,
      failing: healthVerdict(driveOf(leg.from)?.health).state === 'failing',
      candidates: candidates.map((d) => ({ id: d.id, name: driveName(d), serial: d.serial })),
    },
    further: further.map((d) => ({ ...plateOf(d, move.bench), platePrefix: platePrefix(d.serial) })),
    leg: { number: leg.index + 1, of: leg.of },
    source: mediumPlate(leg.from, move.bench),
    target: mediumPlate(leg.to, move.bench),
    makesImage:
      leg.to.kind === 'image' ? (leg.to.ofMachine ? ('virtual disk' as const) : ('image' as const)) : (false as const),
    /** The drive that is written, whose plate is typed; null where a host keeps the image. */
    written: written ? plateOf(written, move.bench) : null,
    platePrefix: written ? platePrefix(written.serial) : '',
    /** The partition that alone is written, of a drive that keeps everything else. */
    into: leg.layout.into && leg.last ? intoWords(leg) : null,
    system: leg.source.partitions.find((p) => (leg.volumes ? leg.volumes.includes(p.number) : p.role === 'system')),
    running: copy?.status === 'running' || copy?.status === 'paused',
    done: progress!.copied === progress!.legs.length,
  }
}

function intoWords({ layout, target }: LegNow): { partition: number; title: string | null } {
  const [{ number }] = layout.partitions
  return { partition: number, title: target?.partitions.find((p) => p.number === number)?.title ?? null }
}
