import { platePrefix } from '@/core/ready/plate-check'
import { driveName } from '@/bench/places'
import { SHOP } from '@/bench/scenario/things'
import { readyState } from '../ready'
import { routeFor } from '../route'
import { stepsFor } from '../swap'
import { calendarDay, clockSeconds, clockTime } from '../words'
import type { MovePage } from './page'

// What each station's page shows, as plain values. Everything is computed here or in core; pages only draw.

const RUNNING = { off: 'switched off', system: 'running its own system', stick: 'running from the rescue stick' }

export function intakeView({ move, computer, source, target, lines }: MovePage) {
  const { brief, row, bench } = move
  return {
    confirmed: row.intake !== null,
    reason: brief.reason,
    customer: brief.customer,
    promised: brief.promised,
    backup: brief.backup,
    computer: {
      name: computer.name,
      model: computer.model,
      firmware: `${computer.firmware.mode.toUpperCase()}, Secure Boot ${computer.firmware.secureBoot ? 'on' : 'off'}`,
      memoryBytes: computer.memoryBytes,
      bootMenuKey: computer.firmware.bootMenuKey,
      running: RUNNING[computer.running],
      bootEntries: computer.firmware.bootEntries.map((e) => ({ id: e.id, name: e.name, path: e.path })),
      slots: computer.slots.map((slot) => {
        const drive = bench.drives.find(
          (d) => d.place.kind === 'slot' && d.place.computerId === computer.id && d.place.slot === slot.id,
        )
        return { id: slot.id, takes: slot.interfaceName, holds: drive ? driveName(drive) : null }
      }),
    },
    source,
    target,
    lines,
  }
}

export function surveyView({ move, source, target, lines }: MovePage) {
  const { survey } = move.row
  return {
    survey: survey && {
      source: survey.source,
      target: survey.target,
      confirmed: survey.confirmed,
      read: clockTime(survey.at),
    },
    source,
    target,
    health: { source: move.source.health, target: move.target.health },
    lines,
  }
}

export function routeView({ move, source, target }: MovePage) {
  const found = routeFor(move)
  return {
    taken: move.row.route !== null,
    found: move.row.route ? ({ works: true, route: move.row.route.route } as const) : found,
    source,
    target,
    computerName: move.computer.name,
  }
}

export function fitView({ move, source, target, copy }: MovePage) {
  const { survey, fit, route } = move.row
  return {
    source,
    target,
    sourceSurvey: survey!.source,
    targetSurvey: survey!.target,
    locked: fit && { wish: fit.wish, at: clockTime(fit.at) },
    copied: copy?.status === 'done' || copy?.status === 'running' || copy?.status === 'paused',
    leg: route!.route.leg,
  }
}

export async function readyView({ move, source, target, copy }: MovePage) {
  const { items, open, whenDone } = await readyState(move)
  return {
    items: items.map((item) => ({ ...item })),
    open,
    whenDone,
    source,
    target,
    platePrefix: platePrefix(target.serial),
    system: move.row.survey!.source.partitions.find((p) => p.role === 'system'),
    running: copy?.status === 'running' || copy?.status === 'paused',
    done: copy?.status === 'done',
  }
}

export function copyView({ move, copy, source, target, lines }: MovePage) {
  const { survey, route } = move.row
  return {
    copy: copy!,
    started: clockTime(copy!.startedAt),
    ended: copy!.endedAt === null ? null : clockTime(copy!.endedAt),
    startedAt: copy!.startedAt,
    source,
    target,
    profile: survey!.source.profile,
    sourceBytes: survey!.source.sizeBytes,
    leg: route!.route.leg,
    lines,
  }
}

export function swapView({ move, computer, source, target }: MovePage) {
  const { steps, done } = stepsFor(move)
  return {
    steps,
    done: done.length,
    computer: {
      name: computer.name,
      model: computer.model,
      kind: computer.chassis.kind,
      slots: computer.slots.map((s) => s.id),
      homeSlot: computer.homeSlot,
      mains: computer.mains,
      running: RUNNING[computer.running],
      cover: computer.chassis.cover,
      driveMount: computer.chassis.driveMount,
    },
    tools: computer.chassis.tools,
    source,
    target,
  }
}

export function proofView({ move, computer, source, target }: MovePage) {
  const { row, bench } = move
  const trials = row.proof?.trials ?? []
  const last = trials.at(-1)
  const swapped = row.swap !== null && row.swap.done.length === row.swap.steps.length
  return {
    trial: last && { ...last, time: clockTime(last.at), number: trials.length },
    swapped,
    computer: { name: computer.name, running: RUNNING[computer.running], mains: computer.mains },
    inComputer: computer.slots.map((slot) => {
      const drive = bench.drives.find(
        (d) => d.place.kind === 'slot' && d.place.computerId === computer.id && d.place.slot === slot.id,
      )
      return {
        slot: slot.id,
        which: drive?.id === source.id ? 'source' : drive?.id === target.id ? 'target' : drive ? 'other' : 'none',
      } as const
    }),
    source,
    target,
  }
}

export function handoverView({ move, copy, source, target, computer }: MovePage) {
  const { row, brief } = move
  const trial = row.proof?.trials.at(-1)
  if (!copy?.summary || !row.fit || !row.survey || !trial?.trace.starts || trial.subject !== 'target') return undefined
  const { layout } = row.fit
  return {
    handedOver: row.handover && {
      on: calendarDay(row.handover.at),
      at: clockTime(row.handover.at),
      shelfUntil: row.handover.shelfUntil,
    },
    brief: { name: brief.name, customer: brief.customer, reason: brief.reason },
    computer: { name: computer.name, model: computer.model },
    shop: SHOP,
    day: calendarDay(copy.startedAt),
    started: clockSeconds(copy.startedAt),
    ended: copy.endedAt === null ? '' : clockSeconds(copy.endedAt),
    source,
    target,
    summary: copy.summary,
    partitions: layout.partitions.map((p) => ({
      number: p.number,
      title: p.title,
      before: (p.sourceLastLba - p.sourceFirstLba + 1) * layout.sectorSize,
      after: (p.lastLba - p.firstLba + 1) * layout.sectorSize,
      usedBytes: p.usedBytes,
    })),
    trial: { time: clockTime(trial.at), links: trial.trace.links, checks: trial.checks },
    profile: row.survey.source.profile,
    sourceBytes: row.survey.source.sizeBytes,
  }
}
