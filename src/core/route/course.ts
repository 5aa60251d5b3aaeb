import { formatRate, formatSize } from '../bytes/size'
import { type BenchState, placeName } from '../things/bench'
import { driveName, type Place } from '../things/drive'
import { type Hands, type PlacedMedium, legsOf, type Plan } from './types'

/** A stop of a plan's course, with what leads to the next one: bytes that move, hands that work, a start. */
export interface CourseStop {
  readonly title: string
  readonly sub: string
  readonly toNext?: 'bytes' | 'hands' | 'start'
  readonly label?: string
}

/** A plan as a course with stops: where hands work, what is started, and between which places bytes move. */
export function courseOf(plan: Pick<Plan, 'actions'>, bench: BenchState): CourseStop[] {
  const { legs, after } = legsOf(plan)
  const stops: CourseStop[] = []
  let on: string | undefined
  for (const { before, transfer } of legs) {
    stops.push(...handsAndStarts(before, bench))
    const from = mediumStop(transfer.from, bench)
    const key = `${from.title}/${from.sub}`
    const label = `${formatSize(transfer.bytes)}, ${formatRate(transfer.timing.copyBytesPerSecond * transfer.known.share)}`
    // A drive that the leg before wrote and that stayed where it is is the same stop.
    if (on === key) stops.pop()
    stops.push({ ...from, toNext: 'bytes', label })
    const to = mediumStop(transfer.to, bench)
    stops.push(to)
    on = `${to.title}/${to.sub}`
  }
  stops.push(...handsAndStarts(after, bench))
  return linked(stops)
}

/** What hands do and what is started between two copies: one stop for all hands, one for each start. */
function handsAndStarts(actions: readonly Hands[], bench: BenchState): CourseStop[] {
  const stops: CourseStop[] = []
  const moves = actions.filter((a) => a.do === 'take' || a.do === 'put')
  if (moves.length > 0) {
    const outs = [...new Set(moves.filter((m) => m.do === 'take').map((m) => m.driveId))]
    const ins = moves.filter((m) => m.do === 'put')
    const short = (id: string) => bench.drives.find((d) => d.id === id)?.model ?? 'drive'
    const only = outs.filter((id) => !ins.some((m) => m.driveId === id))
    const where = (m: (typeof ins)[number]) => (m.do === 'put' && m.into.kind === 'slot' ? 'in' : 'outside')
    const title = [...only.map((id) => `${short(id)} out`), ...ins.map((m) => `${short(m.driveId)} ${where(m)}`)].join(
      ', ',
    )
    const places = [...new Set(ins.map((m) => (m.do === 'put' ? placeWords(m.into, bench) : '')))]
    stops.push({
      title,
      sub: places.length > 0 ? `into ${places.join(', ')}` : 'set aside',
      toNext: 'hands',
      label: 'by hand',
    })
  }
  for (const action of actions) {
    if (action.do === 'start-virtual') {
      stops.push({ title: 'Virtual machine', sub: 'starts without network' })
      continue
    }
    if (action.do === 'secure-boot' && !action.on)
      stops.push({ title: 'Secure Boot off', sub: 'in the settings', toNext: 'hands' })
    if (action.do !== 'start') continue
    const name = bench.computers.find((c) => c.id === action.computerId)?.name ?? 'the computer'
    if (action.from === 'target') stops.push({ title: START, sub: `the ${name}, from the new drive` })
    else {
      const title = action.from === 'stick' ? 'Rescue stick' : 'Its own system'
      stops.push({ title, sub: `starts the ${name}`, toNext: 'start', label: 'start' })
    }
  }
  return stops
}

function mediumStop(medium: PlacedMedium, bench: BenchState): CourseStop {
  const host = (id: string) => bench.accessories.find((a) => a.id === id)?.name ?? 'host'
  if (medium.kind === 'virtual-disk') return { title: 'Virtual disk', sub: host(medium.hostId) }
  const id = medium.kind === 'drive' ? medium.driveId : medium.store
  const drive = bench.drives.find((d) => d.id === id)
  if (medium.kind === 'image') return { title: 'Image', sub: drive ? driveName(drive) : host(medium.store) }
  return { title: drive?.model ?? 'drive', sub: placeWords(medium.place, bench) }
}

const placeWords = (place: Place, bench: BenchState) => placeName(place, bench).replace(/^on the /, '')

/** Gives every stop but the last what leads on from it; the last start is said with what comes before it. */
function linked(all: readonly CourseStop[]): CourseStop[] {
  const stops = [...all]
  const last = stops.at(-1)
  const before = stops.at(-2)
  if (last?.title === START && before) {
    stops.splice(-2, 2, {
      title: before.title,
      sub: `${before.sub}, ${before.toNext === 'hands' ? 'then ' : ''}starts here`,
    })
  }
  return stops.map((stop, i) => {
    const next = stops[i + 1]
    if (!next) return { title: stop.title, sub: stop.sub }
    if (stop.toNext) return stop
    const started = next.title === 'Rescue stick' || next.title === 'Virtual machine'
    // Two copies one behind the other: nobody does anything between them.
    const copies = next.toNext === 'bytes'
    return {
      ...stop,
      toNext: started || copies ? 'start' : 'hands',
      ...(started ? {} : { label: copies ? 'then' : 'by hand' }),
    }
  })
}

const START = 'Start'
