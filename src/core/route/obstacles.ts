import { counted, lowerFirst } from '../words'
import { driveIn, isFar, placeKey } from '../things/bench'
import { type Slot, whyNotInto } from '../things/bodies'
import type { Computer } from '../things/computer'
import { type Drive, driveName } from '../things/drive'
import { type Accessory, bracketCount, isAdapter } from '../things/accessory'
import { formatSize } from '../bytes/size'
import { driveOf, type RouteQuestion } from './question'
import { adaptersOf, hostsOf, networkOf, plugIn, type Runner } from './runners'
import { findPlans, transferDrives, whyNotStartFrom } from './search'
import { formatRange } from './timing'
import type { Plan } from './types'
import { effortSeconds } from './measure'

/** Something that does not work on this bench, and what is missing for it. */
export interface Obstacle {
  readonly what: string
  readonly why: string
}

/** One thing that could be had, and what it would open. */
export interface Opening {
  readonly thing: string
  readonly sentence: string
}

/** What cannot work with this bench, each with the missing thing. The most telling first. */
export function obstaclesOf(question: RouteQuestion): Obstacle[] {
  const all = [
    ...ofTheGoal(question),
    ...ofBothInside(question),
    ...ofAdapters(question),
    ...ofSticks(question),
    ...ofNetworks(question),
    ...ofLent(question),
    ...ofImages(question),
  ]
  // What holds for both drives is said once.
  return all.filter((o, i) => all.findIndex((other) => other.what === o.what && other.why === o.why) === i)
}

function drivesOf(question: RouteQuestion): Drive[] {
  const ids = question.pairs.flatMap((p) => [p.sourceId, ...(p.targetId ? [p.targetId] : [])])
  return [...new Set(ids)].map((id) => driveOf(question, id))
}

function ofTheGoal(question: RouteQuestion): Obstacle[] {
  const { bench, goal, pairs } = question
  if (goal.kind === 'virtual-machine') {
    return hostsOf(bench).length === 0
      ? [{ what: 'A virtual machine', why: 'There is no host for virtual machines on the bench.' }]
      : []
  }
  const computer = bench.computers.find((c) => c.id === goal.computerId)
  if (!computer) return [{ what: 'The computer', why: 'It is no longer on the bench.' }]
  const brackets = bracketCount(bench.accessories)
  return pairs.flatMap(({ targetId }, i) => {
    if (targetId === null) return []
    const drive = driveOf(question, targetId)
    const misfits = computer.slots.map((s) => whyNotInto(drive, s, brackets))
    const what = `The ${driveName(drive)} in the ${computer.name}`
    if (misfits.every((m) => m !== undefined)) return [{ what, why: misfits[0]!.sentence }]
    const start = i === 0 ? whyNotStartFrom(computer, drive) : undefined
    return start ? [{ what, why: start }] : []
  })
}

function ofBothInside({ bench, computerId, goal, pairs }: RouteQuestion): Obstacle[] {
  if (goal.kind === 'virtual-machine' || goal.computerId !== computerId) return []
  const computer = bench.computers.find((c) => c.id === computerId)
  const target = bench.drives.find((d) => d.id === pairs[0].targetId)
  // What is at another bench is read over the network, whatever goes in there.
  if (!computer || !target || computer.farBenchId !== undefined) return []
  const brackets = bracketCount(bench.accessories)
  const fitting = computer.slots.filter((s) => !whyNotInto(target, s, brackets))
  if (pairs[0].stays && fitting.length > 0) return ofStaying({ bench, computer, pairs, fitting })
  if (fitting.length !== 1) return []
  return [{ what: 'Both drives inside', why: `The ${computer.name} has one slot for such a drive.` }]
}

/** The old drive keeps its slot, and so does everything that the move is not about. */
function ofStaying({
  bench,
  computer,
  pairs,
  fitting,
}: Pick<RouteQuestion, 'bench' | 'pairs'> & { computer: Computer; fitting: readonly Slot[] }): Obstacle[] {
  const targets = pairs.map((p) => p.targetId)
  const free = fitting.filter(({ id }) => {
    const there = driveIn(bench, { kind: 'slot', computerId: computer.id, slot: id })
    return there === undefined || targets.includes(there.id)
  })
  if (free.length >= targets.length) return []
  const has = `The ${computer.name} has ${counted(fitting.length, 'slot')} for such a drive, ${free.length === 0 ? 'none' : `only ${free.length}`} of them free.`
  return [{ what: 'The old drive stays in', why: `${has} It can come out instead, which Intake says.` }]
}

function ofAdapters(question: RouteQuestion): Obstacle[] {
  const { bench } = question
  const adapters = adaptersOf(bench)
  const movable = new Set([...drivesOf(question).map((d) => d.id), ...transferDrives(question)])
  return drivesOf(question).flatMap((drive): Obstacle[] => {
    // At another bench nothing is plugged in from here.
    if (isFar(drive, bench)) return []
    const takes = adapters.filter((a) => a.bays.some((b) => !whyNotInto(drive, b, 0)))
    const outside = `The ${driveName(drive)} outside`
    if (takes.length === 0) {
      const what = drive.body.form === 'blade' ? 'blade' : 'drive'
      const why = `No adapter here takes this ${what}.`
      return [{ what: outside, why }]
    }
    const refusing = adapters
      .filter((a) => !takes.includes(a))
      .map((a) => ({ what: `In the ${a.name}`, why: whyNotInto(drive, a.bays[0], 0)!.sentence }))
    const busy = takes
      .filter((a) =>
        a.bays.every((bay) => {
          const key = placeKey({ kind: 'bay', accessoryId: a.id, bay: bay.id })
          const other = bench.drives.find((d) => placeKey(d.place) === key)
          return other !== undefined && !movable.has(other.id)
        }),
      )
      .map((a) => ({
        what: `The ${driveName(drive)} in the ${a.name}`,
        why: 'Drives that are not of this move sit in it.',
      }))
    return [...busy, ...refusing, ...ofPlugs(question, takes)]
  })
}

function ofPlugs({ bench, computerId }: RouteQuestion, adapters: readonly Accessory[]): Obstacle[] {
  const computer = bench.computers.find((c) => c.id === computerId)
  if (!computer || computer.farBenchId !== undefined) return []
  const runner: Runner = { kind: 'computer', id: computerId, computer, mode: 'system' }
  return adapters.filter(isAdapter).flatMap((adapter) => {
    const plugged = plugIn([adapter], runner, undefined)
    return plugged.works ? [] : [{ what: `The ${adapter.name} at the ${computer.name}`, why: plugged.sentence }]
  })
}

function ofSticks({ bench, computerId, goal }: RouteQuestion): Obstacle[] {
  const sticks = bench.accessories.filter((a) => a.kind === 'stick')
  const computers = bench.computers.filter(
    (c) =>
      c.farBenchId === undefined && (c.id === computerId || (goal.kind === 'computer' && c.id === goal.computerId)),
  )
  const away = bench.computers.filter(
    (c) => c.running === 'stick' && c.farBenchId === undefined && !computers.includes(c),
  )
  return computers.flatMap((computer) => {
    const what = `The ${computer.name} by the rescue stick`
    if (sticks.length === 0) return [{ what, why: 'There is no rescue stick on the bench.' }]
    if (away.length >= sticks.length) return [{ what, why: `The stick is in use: the ${away[0].name} runs from it.` }]
    if (!computer.firmware.startsFromUsb) return [{ what, why: 'Its firmware does not start from USB.' }]
    return []
  })
}

function ofNetworks({ bench, computerId, goal }: RouteQuestion): Obstacle[] {
  const what = 'Over the network'
  if (!bench.accessories.some((a) => a.kind === 'network')) return [{ what, why: 'There is no network on the bench.' }]
  const computer = bench.computers.find((c) => c.id === computerId)
  if (
    computer &&
    computer.farBenchId === undefined &&
    !networkOf({ kind: 'computer', id: computerId, computer, mode: 'stick' }, bench)
  ) {
    return [{ what, why: `The ${computer.name} has no network socket.` }]
  }
  if (goal.kind === 'computer' && goal.computerId === computerId) {
    return hostsOf(bench).length > 0
      ? []
      : [{ what, why: 'There is no second computer here that takes the new drive.' }]
  }
  const sticks = bench.accessories.filter((a) => a.kind === 'stick').length
  if (goal.kind === 'computer' && sticks < 2) {
    return [
      {
        what: 'Over the network, with nothing running',
        why: 'Both computers would need a rescue stick, and there is one.',
      },
    ]
  }
  return []
}

/** Drives of other benches are only reached by what is in the network here. */
function ofLent(question: RouteQuestion): Obstacle[] {
  const { bench } = question
  const lent = drivesOf(question).filter((d) => d.borrowed && isFar(d, bench))
  const isInNetwork =
    hostsOf(bench).some((host) => networkOf({ kind: 'host', id: host.id, host }, bench)) ||
    bench.computers.some(
      (c) =>
        c.farBenchId === undefined &&
        (c.id === question.computerId || (question.goal.kind === 'computer' && c.id === question.goal.computerId)) &&
        networkOf({ kind: 'computer', id: c.id, computer: c, mode: 'stick' }, bench),
    )
  if (isInNetwork) return []
  return lent.map((drive) => ({
    what: `The ${driveName(drive)} over the network`,
    why: 'Nothing here that copies is in the network: it takes a host, or a computer with a network card.',
  }))
}

function ofImages(question: RouteQuestion): Obstacle[] {
  const bytes = Math.max(...question.pairs.map((p) => p.bytes))
  const stores = [
    ...transferDrives(question).map((id) => ({ name: driveName(driveOf(question, id)), room: question.roomOn[id] })),
    ...hostsOf(question.bench).map((h) => ({ name: h.name, room: { bytes: h.freeBytes, limitedBy: null } })),
  ]
  if (stores.length === 0)
    return [{ what: 'By an image', why: 'There is neither a transfer drive nor a host to put it on.' }]
  return stores.flatMap(({ name, room }) => {
    const what = `An image on the ${name}`
    if (room === undefined)
      return [{ what, why: 'It has no clean volume with NTFS, exFAT or FAT32 that a file could be put on.' }]
    if (room.bytes >= bytes) return []
    const why =
      room.limitedBy === null
        ? `It has ${formatSize(room.bytes)} free, and the image takes ${formatSize(bytes)}.`
        : `${room.limitedBy} holds no file beyond ${formatSize(room.bytes)}, and the image takes ${formatSize(bytes)}. A volume with exFAT or NTFS does.`
    return [{ what, why }]
  })
}

/**
 * What having one more thing would open: for each accessory that could be had, the plans are searched for again
 * with it. Only plans that `canBeDone` count. Named is what opens a route where there is none, or ends the move in less than four fifths of the time.
 */
export function openingsOf(
  question: RouteQuestion,
  plans: readonly Plan[],
  available: readonly Accessory[],
  canBeDone: (plan: Plan) => boolean = () => true,
): Opening[] {
  const drives = drivesOf(question)
  // What is only planned neither opens anything nor is there to compare with.
  const best = plans
    .filter(canBeDone)
    .reduce<Plan | undefined>((a, b) => (a && effortSeconds(a) <= effortSeconds(b) ? a : b), undefined)
  const found: (Opening & { cost: number })[] = []
  for (const accessory of available) {
    if (isAdapter(accessory) && !accessory.bays.some((b) => drives.some((d) => !whyNotInto(d, b, 0)))) continue
    const bench = { ...question.bench, accessories: [...question.bench.accessories, accessory] }
    const first = findPlans({ ...question, bench }, best ? [1, legCount(best)] : undefined)
      .filter((p) => canBeDone(p) && (!p.live || !best))
      .reduce<Plan | undefined>((a, b) => (a && effortSeconds(a) <= effortSeconds(b) ? a : b), undefined)
    if (!first || plans.some((p) => p.id === first.id)) continue
    const range = formatRange(first.lowSeconds, first.highSeconds)
    const cost = effortSeconds(first)
    if (!best) {
      found.push({ thing: accessory.name, sentence: `would open a route: ${lowerFirst(first.title)}, ${range}.`, cost })
    } else if (cost < effortSeconds(best) * 0.8) {
      found.push({ thing: accessory.name, sentence: `would make it ${range}: ${lowerFirst(first.title)}.`, cost })
    }
  }
  return found
    .sort((a, b) => a.cost - b.cost)
    .slice(0, 3)
    .map(({ thing, sentence }) => ({ thing, sentence }))
}

const legCount = (plan: Plan) => plan.actions.filter((a) => a.do === 'transfer' && a.pair === 0).length
