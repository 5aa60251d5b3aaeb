import { menuOf } from '../computer'
import { freeRoom, stillOff } from '../proof/after'
import { offeredRepairs, offeredTidying, rearranged, repairWaits } from '../proof/repairs'
import { wayBack } from '../proof/way-back'
import type { BenchState } from '@/core/things/bench'
import { driveIn } from '@/core/things/bench'
import { slotWords } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { driveName } from '@/core/things/drive'
import { LINKS, socketWords } from '@/core/things/links'
import { onTray } from '@/core/swap/tray'
import { platePrefix } from '@/core/ready/plate-check'
import { heldBytes } from '@/core/copy/plan'
import { copyShare } from '@/core/copy/progress'
import { healthVerdict } from '@/core/health/health'
import { ORDER_RULE } from '@/core/route/judge'
import { legSeconds } from '@/core/route/timing'
import { courseOf } from '@/core/route/course'
import { running } from '../copy/current'
import { furtherCandidates, readyAhead, readyState } from '../ready'
import { notYet, routesOf } from '../route'
import { phaseNow, stepsAfterStart } from '../swap'
import { clockTime, dayWords, promiseWords } from '../words'
import { mapCheckProgress } from '../survey/map-checks'
import { releaseStale } from '../fit'
import { sheetOf } from '../handover/sheet'
import { fitCandidates } from '../fit/candidates'
import { loadLeg, stepsOf } from './legs'
import type { MovePage } from './page'
import { hasStarted, moveRow, plateOf } from '.'

// What each station's page shows, as plain values. Everything is computed here or in core; pages only draw.

const RUNNING = { off: 'switched off', system: 'running its own system', stick: 'running from the rescue stick' }

export function intakeView({ move, plates, lines }: MovePage) {
  const { brief, row, bench, computer, goal } = move
  return {
    confirmed: row.intake !== null,
    brief,
    promised: promiseWords(brief.promised),
    backup: brief.backup && { where: brief.backup.where, date: dayWords(brief.backup.date) },
    computer: computerView(computer, bench),
    goal: goal && goal.id !== computer.id ? computerView(goal, bench) : undefined,
    plates: plates.map((p, i) => ({
      ...p,
      speed: row.intake?.speeds[move.pairs[i].source.id],
    })),
    lines,
  }
}

/** The facts of a computer, in words. */
function computerView(computer: Computer, bench: BenchState) {
  const { firmware, processors, networkCards, sockets, batteryPercent } = computer
  const starts = [
    firmware.startsFromNvme ? 'NVMe' : 'not from NVMe',
    firmware.startsFromUsb ? 'USB' : 'not from USB',
    ...(firmware.mode === 'bios' && !firmware.startsBeyond2Tib ? ['drives up to 2 TiB'] : []),
  ]
  return {
    id: computer.id,
    name: computer.name,
    model: computer.model,
    firmware: `${firmware.mode.toUpperCase()}, Secure Boot ${firmware.secureBoot ? 'on' : 'off'}`,
    starts: `from SATA, ${starts.join(', ')}`,
    memoryBytes: computer.memoryBytes,
    processors: `${processors.count} × ${processors.cores} cores`,
    network:
      networkCards.map((c) => `${LINKS[c.link].name}${c.address ? `, ${c.address}` : ''}`).join('; ') ||
      'no network card',
    sockets: socketWords(sockets) || 'none',
    battery: batteryPercent === null ? null : `${batteryPercent} %`,
    chassis: `${computer.chassis.kind}, ${computer.chassis.cover.name} with ${computer.chassis.cover.screws} screws`,
    bootMenuKey: firmware.bootMenuKey,
    running: RUNNING[computer.running],
    bootEntries: firmware.bootEntries.map((e) => ({ id: e.id, name: e.name, path: e.path })),
    slots: computer.slots.map((slot) => {
      const drive = driveIn(bench, { kind: 'slot', computerId: computer.id, slot: slot.id })
      return { id: slot.id, takes: slotWords(slot), holds: drive ? driveName(drive) : null }
    }),
  }
}

export function surveyView({ move, plates, lines }: MovePage) {
  const { survey } = move.row
  return {
    survey: survey && { confirmed: survey.confirmed, read: clockTime(survey.at) },
    mapCheckProgress: mapCheckProgress(move.id),
    pairs: plates.map((p, i) => ({
      ...p,
      read: survey ? survey.pairs[i] : undefined,
      health: { source: move.pairs[i].source.health, target: move.pairs[i].target?.health },
    })),
    lines,
  }
}

export async function routeView({ move, progress, obstacle, trouble }: MovePage) {
  const { plans, obstacles, openings } = await routesOf(move)
  const taken = progress?.plan
  // The plan that was taken stays on the page as it was taken, even when the bench has become another one.
  const shown = taken && !plans.some((p) => p.id === taken.id) ? [taken, ...plans] : plans
  return {
    taken: taken?.id,
    begun: (progress?.copied ?? 0) > 0 || progress?.copies.some((c) => c !== undefined) === true,
    plans: shown.map((plan) => {
      const used = taken?.id === plan.id ? taken : plan
      const { actions, ...rest } = used
      return {
        ...rest,
        notYet: notYet(move, used),
        stops: courseOf(used, move.bench),
        legs: actions.flatMap((a) =>
          a.do === 'transfer'
            ? [
                {
                  how: a.how,
                  bytes: a.bytes,
                  timing: a.timing,
                  known: a.known,
                  lowSeconds: a.lowSeconds,
                  highSeconds: a.highSeconds,
                },
              ]
            : [],
        ),
      }
    }),
    rule: plans.some((p) => notYet(move, p)) ? `What is only planned comes last. ${ORDER_RULE}` : ORDER_RULE,
    obstacles,
    openings,
    obstacle,
    trouble,
    computerName: move.computer.name,
    toVirtualMachine: move.brief.toVirtualMachine,
  }
}

export async function fitView({ move, progress, plates, obstacle }: MovePage) {
  const copies = (progress?.copies ?? []).flatMap((c) => (c ? [c] : []))
  const stale = await releaseStale(move, copies.length > 0)
  const { survey, fit } = stale ? await moveRow(move.id) : move.row
  return {
    pairs: plates.map((p, i) => {
      const { source, target } = survey!.pairs[i]
      const locked = fit?.pairs[i]
      const leg = progress!.legs.findLast((l) => l.transfer.pair === i)?.transfer ?? null
      return {
        index: i,
        source: p.source,
        target: p.target ?? null,
        sourceSurvey: source,
        targetSurvey: target,
        locked: locked ? { wish: locked.wish, layout: locked.layout, at: clockTime(locked.at) } : null,
        earlier: (fit?.earlier ?? [])
          .filter((e) => e.pair === i)
          .map((e) => ({ at: clockTime(e.at), headline: e.headline, wish: e.wish, layout: e.layout })),
        leg,
      }
    }),
    candidates: await fitCandidates(move),
    copied: copies.some((c) => ['done', 'running', 'paused'].includes(c.status)),
    /** Said when a drive is another than when it was read. */
    stale: stale ?? null,
    /** Why this version goes no further than this with the move. */
    obstacle: obstacle ?? null,
  }
}

/** The list of a way that this version cannot carry out. */
export async function readyAheadView({ move }: MovePage) {
  return { items: (await readyAhead(move)).map((item) => ({ ...item })) }
}

export async function readyView({ move, progress, copy }: MovePage) {
  const leg = await loadLeg(move)
  const { items, open, whenDone, choices, further, seen } = await readyState(move, leg)
  const candidates = await furtherCandidates(move, leg)
  const volumes = leg.layout.partitions.flatMap((p) => {
    const { volume } = leg.source.partitions.find((q) => q.number === p.sourceNumber) ?? {}
    // Where nobody sees what is in use, every sector is taken anyway.
    if (!volume || volume.encrypted) return []
    return [{ number: p.sourceNumber, title: p.title, usedBytes: p.usedBytes, everyBytes: heldBytes(p, leg.layout) }]
  })
  const more = volumes.filter((v) => choices.everyOf.includes(v.number))
  const bytes = {
    used: leg.transfer.bytes,
    volumes: more.reduce((sum, v) => sum + Math.max(0, v.everyBytes - v.usedBytes), leg.transfer.bytes),
    every: leg.layout.partitions.reduce((sum, p) => sum + heldBytes(p, leg.layout), 0),
  }
  const seconds = (ways: keyof typeof bytes) => legSeconds(leg.transfer.timing, bytes[ways])
  return {
    items: items.map((item) => ({ ...item })),
    open,
    whenDone,
    seen,
    how: {
      choices,
      volumes,
      bytes,
      seconds: { used: seconds('used'), volumes: seconds('volumes'), every: seconds('every') },
      live: progress!.plan.live,
      failing: healthVerdict(leg.from.health).state === 'failing',
      candidates: candidates.map((d) => ({ id: d.id, name: driveName(d), serial: d.serial })),
    },
    further: further.map((d) => ({ ...plateOf(d, move.bench), platePrefix: platePrefix(d.serial) })),
    leg: { number: leg.index + 1, of: leg.of },
    source: plateOf(leg.from, move.bench),
    target: plateOf(leg.to, move.bench),
    platePrefix: platePrefix(leg.to.serial),
    system: leg.source.partitions.find((p) => p.role === 'system'),
    running: copy?.status === 'running' || copy?.status === 'paused',
    done: progress!.copied === progress!.legs.length,
  }
}

export async function copyView({ move, copy, progress, lines }: MovePage) {
  const { survey } = move.row
  // After a leg its summary stays until the next one begins.
  const shown = copy ?? progress!.copies[progress!.copied - 1]!
  const { transfer } = progress!.legs[shown.leg]
  const drive = (end: typeof transfer.from) =>
    plateOf(
      move.bench.drives.find((d) => end.kind === 'drive' && d.id === end.driveId)!,
      move.bench,
    )
  const { source } = survey!.pairs[transfer.pair]
  return {
    copy: shown,
    started: clockTime(shown.startedAt),
    ended: shown.endedAt === null ? null : clockTime(shown.endedAt),
    startedAt: shown.startedAt,
    legNumber: shown.leg + 1,
    legs: progress!.legs.length,
    /** Hands have something to do before the next leg, or after the last. */
    handsNext: progress!.phase !== undefined || progress!.copied === progress!.legs.length,
    source: drive(transfer.from),
    target: drive(transfer.to),
    profile: source.profile,
    sourceBytes: source.sizeBytes,
    sourceSectorSize: source.logicalSectorSize,
    leg: transfer,
    lines,
    others: await othersCopying(move.id),
    canRetry: shown.status === 'done' && (move.row.swap?.phases[shown.leg + 1]?.done.length ?? 0) === 0,
    further: shown.choices.further.flatMap((id) =>
      move.bench.drives.filter((d) => d.id === id).map((d) => plateOf(d, move.bench)),
    ),
  }
}

/** Copies of other moves that run now. */
async function othersCopying(moveId: string) {
  const found = []
  for (const copy of running().values()) {
    if (copy.moveId === moveId) continue
    const { brief } = await moveRow(copy.moveId)
    const { moveId: id, progress } = copy
    const words = progress ? `${Math.floor(copyShare(progress) * 100)} %` : 'beginning'
    found.push({ moveId: id, title: brief.name, words })
  }
  return found
}

export function swapView({ move, progress }: MovePage) {
  const phase = phaseNow(progress!)
  const { steps, done, ticks } = stepsOf(move, progress!, phase)
  const step = steps[done.length] ?? steps.at(-1)
  const computer = move.bench.computers.find((c) => c.id === step?.computerId) ?? move.goal ?? move.computer
  const involved = move.bench.drives.filter(
    (d) =>
      move.pairs.some((p) => p.source.id === d.id || p.target?.id === d.id) ||
      progress!.legs.some((l) => l.transfer.to.kind === 'drive' && l.transfer.to.driveId === d.id),
  )
  return {
    steps,
    done: done.length,
    ticks,
    tray: onTray(
      steps,
      done.map((d) => d.id),
      ticks,
    ),
    /** A start from the new drive has passed, which the last steps wait for. */
    started: hasStarted(move),
    /** More copying comes after these steps. */
    beforeLeg: phase < progress!.legs.length ? { number: phase + 1, of: progress!.legs.length } : null,
    computer: {
      name: computer.name,
      slots: computer.slots.map((s) => {
        const drive = driveIn(move.bench, { kind: 'slot', computerId: computer.id, slot: s.id })
        return { id: s.id, holds: drive ? driveName(drive) : null }
      }),
      mains: computer.mains,
      kind: computer.chassis.kind,
      cover: computer.chassis.cover,
      driveMount: computer.chassis.driveMount,
    },
    tools: computer.chassis.tools,
    drives: involved.map((d) => ({
      ...plateOf(d, move.bench),
      here: d.place.kind === 'slot' && d.place.computerId === computer.id,
      role: move.pairs.some((p) => p.source.id === d.id)
        ? 'Old drive'
        : move.pairs.some((p) => p.target?.id === d.id)
          ? 'New drive'
          : 'Transfer drive',
    })),
    target: move.pairs[0].target ? driveName(move.pairs[0].target) : 'virtual disk',
  }
}

export async function proofView({ move, progress, plates }: MovePage) {
  const { row, bench, goal } = move
  const trials = row.proof?.trials ?? []
  const last = trials.at(-1)
  const computer = goal ?? move.computer
  const [{ source, target }] = plates
  const started = last?.trace.starts && last.subject === 'target'
  const newDrive = move.pairs[0].target
  const room = started && newDrive ? await freeRoom(newDrive) : undefined
  const layout = row.fit?.pairs[0]?.layout
  return {
    /** Lines of its boot menu, for a start by one of them. */
    menu: await menuOf(bench, computer),
    after: started
      ? {
          speeds: last.speeds,
          off: stillOff(move),
          turnedOff: row.ready?.turnedOff.length ?? 0,
          tidying: await offeredTidying(move),
          room: room && {
            bytes: room.bytes,
            into: layout?.partitions.find((p) => p.number === room.partition)?.title ?? `partition ${room.partition}`,
          },
        }
      : null,
    /** The case is closed only now that it has started: the first step of that, if any is open. */
    closing: progress ? (stepsAfterStart(move, progress)[0]?.title ?? null) : null,
    wayBack: trials.length > 0 ? (wayBack(move) ?? null) : null,
    trial: last && { ...last, time: clockTime(last.at), number: trials.length },
    mode: computer.firmware.mode,
    repaired: repairWaits(move),
    rearranged: rearranged(move),
    offered: await offeredRepairs(move),
    repairs: (row.proof?.repairs ?? []).map((r) => ({ ...r, time: clockTime(r.at) })),
    swapped: progress !== undefined && progress.copied === progress.legs.length && progress.phase === undefined,
    computer: { id: computer.id, name: computer.name, running: RUNNING[computer.running], mains: computer.mains },
    inComputer: computer.slots.map((slot) => {
      const drive = driveIn(bench, { kind: 'slot', computerId: computer.id, slot: slot.id })
      return {
        slot: slot.id,
        which: drive?.id === source.id ? 'source' : drive?.id === target?.id ? 'target' : drive ? 'other' : 'none',
      } as const
    }),
    source,
    target: target!,
  }
}

export async function handoverView({ move, progress, plates }: MovePage) {
  const { row } = move
  const sheet = await sheetOf(move, progress)
  if (!sheet) return undefined
  const open = progress ? stepsAfterStart(move, progress) : []
  return {
    sheet,
    closed: row.handover && { at: clockTime(row.handover.at), shelfUntil: row.handover.shelfUntil },
    /** The first step of closing the case, where that is not done. */
    closing: open[0]?.title ?? null,
    plates: plates.map((p, i) => ({ source: { ...p.source, id: move.pairs[i].source.id }, target: p.target! })),
    profile: row.survey!.pairs[0].source.profile,
    sourceBytes: row.survey!.pairs[0].source.sizeBytes,
  }
}
