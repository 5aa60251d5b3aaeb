import { upperFirst } from '../words'
import { healthVerdict } from '../health/health'
import { formatSize } from '../bytes/size'
import { farBenchOf, isFar, placeName } from '../things/bench'
import { driveName } from '../things/drive'
import { effortSeconds, handsOf, openingsOf, thingsOfTransfer, transfersOf } from './measure'
import type { State, World } from './state'
import type { Action, Plan, Transfer } from './types'

/** What it is worth to try the new drive in a laptop before anything is copied. */
const TESTED_IN_LAPTOP = 900

/** How plans are put in order, as it is said on the page. */
export const ORDER_RULE =
  'Fewest copies first, then what needs no setting changed, then what is copied while nothing runs; then the least time, with five minutes for each step of the hands. In a laptop, trying the new drive where it will live counts for fifteen.'

interface Judged {
  readonly plan: Plan
  readonly transfers: number
  readonly settings: number
  readonly cost: number
}

/** Finished routes as plans: those that another one makes needless left out, the others in order. */
export function judged(world: World, ends: readonly State[]): Plan[] {
  const shortest = new Map<string, Judged>()
  for (const end of ends) {
    const made = judge(world, end)
    const known = shortest.get(made.plan.id)
    if (!known || made.cost < known.cost) shortest.set(made.plan.id, made)
  }
  // What makes a route needless stands before it in this order, and is itself needless only by what does the same to both.
  const kept: Judged[] = []
  for (const p of [...shortest.values()].sort(order)) if (!kept.some((q) => makesNeedless(q, p))) kept.push(p)
  return kept.map(({ plan, settings }) => ({
    ...plan,
    // Words are only made for what is kept; most of what is found is not.
    title: titleOf(world, transfersOf(plan.actions), plan.testedInPlace, plan.live),
    risks: risksOf(world, transfersOf(plan.actions), settings > 0, plan.testedInPlace, plan.live),
    why: whyTake(
      world,
      plan,
      kept.map((k) => k.plan),
    ),
  }))
}

function order(a: Judged, b: Judged): number {
  return (
    a.transfers - b.transfers ||
    a.settings - b.settings ||
    Number(a.plan.live) - Number(b.plan.live) ||
    a.cost - b.cost ||
    a.plan.things.length - b.plan.things.length ||
    (a.plan.id < b.plan.id ? -1 : 1)
  )
}

/** True when `q` does all that `p` does, with a part of the same things and no more of anything. */
function makesNeedless(q: Judged, p: Judged): boolean {
  const [a, b] = [q.plan, p.plan]
  const atLeast = (x: boolean, y: boolean) => x || !y
  return (
    a.live === b.live &&
    atLeast(a.testedInPlace, b.testedInPlace) &&
    // A copy on another drive and an image are not the same to have.
    (a.leavesImage === b.leavesImage || (q.transfers < p.transfers && a.leavesImage)) &&
    q.transfers <= p.transfers &&
    q.settings <= p.settings &&
    a.handSteps <= b.handSteps &&
    a.openings <= b.openings &&
    a.highSeconds <= b.highSeconds &&
    (q.transfers < p.transfers ||
      q.settings < p.settings ||
      a.handSteps < b.handSteps ||
      a.openings < b.openings ||
      a.highSeconds < b.highSeconds ||
      a.things.length < b.things.length ||
      a.id < b.id) &&
    a.things.every((t) => b.things.includes(t))
  )
}

function judge(world: World, { actions }: State): Judged {
  const { question } = world
  const transfers = transfersOf(actions)
  const settings = actions.filter((a) => a.do === 'secure-boot').length
  const goalId = question.goal.kind === 'computer' ? question.goal.computerId : undefined
  const live = transfers.some((t) => t.live)
  const toTarget = transfers.filter((t) => t.to.kind === 'drive' && t.to.driveId === question.pairs[t.pair].targetId)
  const testedInPlace =
    toTarget.length > 0 &&
    toTarget.every((t) => t.to.kind === 'drive' && t.to.place.kind === 'slot' && t.to.place.computerId === goalId) &&
    !actions.slice(actions.lastIndexOf(toTarget.at(-1)!)).some((a) => a.do === 'put')
  const leavesImage = transfers.some((t) => t.to.kind === 'image')
  const lowSeconds = sum(transfers, (t) => t.lowSeconds)
  const highSeconds = sum(transfers, (t) => t.highSeconds)
  const slowest = transfers.reduce((a, b) => (b.highSeconds > a.highSeconds ? b : a))
  const usesNetwork = (t: Transfer) => t.timing.limitedBy.startsWith('the network') || /ethernet/.test(t.linkKey)
  const things = [
    ...new Set([
      ...transfers.flatMap(thingsOfTransfer).filter((id) => id !== question.computerId && id !== goalId),
      ...transfers.flatMap((t) =>
        t.to.kind === 'drive' && t.to.driveId !== question.pairs[t.pair].targetId ? [t.to.driveId] : [],
      ),
      ...(transfers.some(usesNetwork) ? ['network'] : []),
      ...(actions.some((a) => a.do === 'start' && a.from === 'stick') ? ['stick'] : []),
    ]),
  ].sort()
  const inLaptop = testedInPlace && goalId !== undefined && world.computers.get(goalId)!.chassis.kind === 'laptop'
  const handSteps = handsOf(actions)
  const openings = openingsOf(actions)
  const plan: Plan = {
    id: transfers.map((t) => signature(t)).join(' then '),
    title: '',
    why: '',
    actions: actions as Action[],
    handSteps,
    openings,
    lowSeconds,
    highSeconds,
    limitedBy: slowest.timing.limitedBy,
    live,
    testedInPlace,
    leavesImage,
    things,
    risks: [],
  }
  const cost = effortSeconds(plan) - (inLaptop ? TESTED_IN_LAPTOP : 0)
  return { plan, transfers: transfers.length, settings, cost }
}

const sum = <T>(items: readonly T[], of: (item: T) => number) => items.reduce((total, item) => total + of(item), 0)

/** The transfer with who does it and where its ends sit: the same for routes that are alike. */
function signature(t: Transfer): string {
  const end = (h: Transfer['from']): string => {
    if (h.kind === 'virtual-disk') return `disk@${h.hostId}`
    const owner = h.place?.kind === 'slot' ? h.place.computerId : h.place?.kind === 'bay' ? h.place.accessoryId : ''
    return h.kind === 'image' ? `image@${h.store}${owner && `@${owner}`}` : `${h.driveId}@${owner}`
  }
  return `${t.how}${t.live ? ' live' : ''} ${end(t.from)} to ${end(t.to)} by ${t.by}${t.receivedBy ? `/${t.receivedBy}` : ''}`
}

/** What a route is called, from what happens in it. */
function titleOf(world: World, transfers: readonly Transfer[], testedInPlace: boolean, live: boolean): string {
  const { question } = world
  const own = transfers.filter((t) => t.pair === 0)
  const [first, last] = [own[0], own.at(-1)!]
  const meanwhile = live ? ', while it runs' : ''
  if (last.to.kind === 'virtual-disk') {
    const host = nameOfHost(world, last.to.hostId)
    return own.length > 1
      ? `By an image to a virtual disk on the ${host}`
      : `${first.by === last.to.hostId ? 'Read at the host, straight' : 'Over the network'} to a virtual disk${meanwhile}`
  }
  const image = own.find((t) => t.to.kind === 'image')?.to
  if (image?.kind === 'image') return `By an image on the ${storeName(world, image.store)}${meanwhile}`
  if (first.from.kind === 'image') return `From the image on the ${storeName(world, first.from.store)}`
  const via = own.length > 1 && own[0].to.kind === 'drive' ? world.drives.get(own[0].to.driveId) : undefined
  if (via) return `Two legs over the ${driveName(via)}${meanwhile}`
  if (last.how === 'send') return `Over the network${meanwhile}`
  const farFrom = nameOfFar(world, first.from)
  const farTo = nameOfFar(world, last.to)
  if (farFrom && farTo) return `Over the network, from ${farFrom} to ${farTo}`
  if (farFrom)
    return `Over the network from ${farFrom}${last.to.kind === 'drive' ? `, ${placedIn(world, last.to)}` : ''}`
  if (farTo) return `Over the network to ${farTo}`
  const inside = (h: Transfer['from']) => h.kind === 'drive' && h.place.kind === 'slot'
  if (inside(last.from) && inside(last.to)) {
    const same =
      last.from.kind === 'drive' &&
      last.to.kind === 'drive' &&
      last.from.place.kind === 'slot' &&
      last.to.place.kind === 'slot' &&
      last.from.place.computerId === last.to.place.computerId
    if (same) return `Both drives inside${meanwhile}`
  }
  if (!inside(last.from) && !inside(last.to)) {
    const runner = world.bench.accessories.find((a) => a.id === last.by)
    return runner ? `Both drives outside, at the ${runner.name}` : 'Both drives outside'
  }
  if (testedInPlace && question.goal.kind === 'computer' && question.goal.computerId !== question.computerId)
    return 'Old drive outside, new one in its computer'
  if (inside(last.to)) return 'New drive in first, old one outside'
  return `New drive outside, ${question.pairs[0].stays ? 'put in' : 'swap'} after${meanwhile}`
}

/** The other bench that a drive is at; undefined for what is here. */
function nameOfFar(world: World, medium: Transfer['from']): string | undefined {
  const drive = medium.kind === 'drive' ? world.drives.get(medium.driveId) : undefined
  const isThere = drive?.borrowed && isFar(drive, world.bench)
  return isThere ? farBenchOf(drive.borrowed!.farBenchId, world.bench)?.name : undefined
}

const placedIn = (world: World, { place }: Extract<Transfer['to'], { kind: 'drive' }>) =>
  `new drive in ${place.kind === 'bay' || place.kind === 'slot' ? 'the ' : ''}${placeName(place, world.bench)}`

function nameOfHost(world: World, id: string): string {
  return world.bench.accessories.find((a) => a.id === id)?.name ?? 'host'
}

function storeName(world: World, id: string): string {
  const drive = world.drives.get(id)
  return drive ? driveName(drive) : nameOfHost(world, id)
}

function risksOf(
  world: World,
  transfers: readonly Transfer[],
  settingChanged: boolean,
  testedInPlace: boolean,
  live: boolean,
): string[] {
  const { question } = world
  const risks: string[] = []
  if (live)
    risks.push(
      'The system goes on running, so the copy needs a snapshot; what changes after it is not on the new drive.',
    )
  else risks.push('Nothing of the source is in use while it is copied, so no file changes under the copy.')
  const slow = transfers.filter((t) => /usb-2/.test(t.linkKey))
  if (slow.length > 0) {
    const hours = sum(slow, (t) => t.highSeconds) / 3600
    risks.push(
      `USB 2 makes this a matter of ${hours >= 1 ? `${hours.toFixed(1)} hours` : 'a long wait'}; another port or dock ends it sooner.`,
    )
  }
  const failing = transfers.flatMap((t) => {
    const drive = t.from.kind === 'drive' ? world.drives.get(t.from.driveId) : undefined
    return drive && healthVerdict(drive.health).state === 'failing' ? [drive] : []
  })
  if (failing.length > 0)
    risks.push(
      `The ${driveName(failing[0])} is failing: what does not read at once is read a second time, which the longer time holds.`,
    )
  if (settingChanged) risks.push('Secure Boot has to be turned off for the stick, and on again before the first start.')
  if (question.goal.kind === 'computer') {
    const name = world.computers.get(question.goal.computerId)?.name ?? 'computer'
    risks.push(
      testedInPlace
        ? `The new drive is written where it will live, so the ${name} is known to take it before anything is copied.`
        : `The new drive is first started after it was put into the ${name}.`,
    )
  } else
    risks.push('Two machines of one name must never be on the network together: the first start is without network.')
  for (const t of transfers) {
    if (t.to.kind === 'drive' && t.to.driveId !== question.pairs[t.pair].targetId) {
      const via = world.drives.get(t.to.driveId)!
      risks.push(`All that is on the ${driveName(via)} is erased.`)
    }
  }
  for (const { from, by } of transfers) {
    const source = from.kind === 'drive' ? world.drives.get(from.driveId) : undefined
    if (source?.image && world.computers.get(by)?.isThis)
      risks.push(`What is read is the image ${source.image} on this computer, not the drive that it is of.`)
  }
  const far = transfers.flatMap((t) => [nameOfFar(world, t.from) ?? [], nameOfFar(world, t.to) ?? []].flat())[0]
  if (far) risks.push(`Where the connection to ${far} is lost, the copy waits for it and goes on by itself.`)
  if (transfers.some((t) => t.how === 'send'))
    risks.push('Bytes leave one computer for another: the owner of the source has to agree first.')
  return risks
}

/** One sentence on why to take it, from what sets it apart from the others. */
function whyTake(world: World, plan: Plan, all: readonly Plan[]): string {
  const others = all.filter((p) => p !== plan)
  const goal = world.question.goal
  const computer = goal.kind === 'computer' ? world.computers.get(goal.computerId) : undefined
  if (others.length === 0) return 'It is the one route that works with what is on the bench.'
  const fastest = others.every((p) => plan.highSeconds <= p.highSeconds)
  const fewest = others.every((p) => plan.handSteps + plan.openings <= p.handSteps + p.openings)
  const first = transfersOf(plan.actions)[0]
  const image = plan.leavesImage
    ? `leaves an image behind as a backup; ${formatSize(first.bytes)} are written twice`
    : ''
  if (plan.live)
    return image
      ? `The computer stays in use meanwhile, and it ${image}.`
      : `The computer stays in use until ${goal.kind === 'computer' ? 'the swap' : 'the virtual machine has proved itself'}.`
  if (image) return `It ${image}.`
  const reasons: string[] = []
  if (plan.testedInPlace)
    reasons.push(`it proves the new drive where it will live${computer ? `, in the ${computer.name}` : ''}`)
  if (openingsOf(plan.actions.slice(0, plan.actions.indexOf(first))) === 0) {
    reasons.push('nothing is taken apart before the copy is checked')
  }
  if (fastest) reasons.push('no other route is as quick')
  if (fewest) reasons.push('none asks less of the hands')
  if (reasons.length === 0) {
    if (first.by !== world.question.computerId && world.bench.accessories.some((a) => a.id === first.by)) {
      return 'The computer itself is not needed while the bytes move.'
    }
    const place = first.to.kind === 'drive' ? placeName(first.to.place, world.bench) : ''
    return place ? `It leaves other docks free: it only needs ${place}.` : 'It works when the routes above do not.'
  }
  const text = reasons.slice(0, 2).join(', and ')
  return `${upperFirst(text)}.`
}
