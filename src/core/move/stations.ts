/** The nine steps of a move, in order, with the words on the rail. */
export const STATIONS = [
  { id: 'intake', title: 'Intake' },
  { id: 'survey', title: 'Survey' },
  { id: 'route', title: 'Route' },
  { id: 'fit', title: 'Fit' },
  { id: 'ready', title: 'Ready' },
  { id: 'copy', title: 'Copy' },
  { id: 'swap', title: 'Swap' },
  { id: 'proof', title: 'Proof' },
  { id: 'handover', title: 'Handover' },
] as const

export type StationId = (typeof STATIONS)[number]['id']

export const STATION_IDS = STATIONS.map((station) => station.id)

export function isStation(value: string): value is StationId {
  return STATION_IDS.some((id) => id === value)
}

/** What stands on the rail beside a station. */
export interface RailStop {
  readonly id: StationId
  readonly title: string
  readonly state: 'done' | 'current' | 'ahead'
  /** What it came to, in a few words. */
  readonly note?: string
}

/** The rail of a move: everything up to the first station without a result is done, that one is current. */
export function railOf(results: Partial<Record<StationId, string | true>>): RailStop[] {
  const current = STATION_IDS.find((id) => results[id] === undefined)
  let passed = false
  return STATIONS.map(({ id, title }) => {
    if (id === current) passed = true
    const note = results[id]
    const state = id === current ? 'current' : passed ? 'ahead' : 'done'
    return { id, title, state, note: state !== 'ahead' && typeof note === 'string' ? note : undefined }
  })
}

/** A move as a line of the board. */
export interface BoardMove {
  readonly id: string
  readonly name: string
  readonly customer: string
  readonly from: string
  readonly to: string
  readonly rail: readonly RailStop[]
  readonly status: string
  /** A copy of it has ended well, and its result can be looked at. */
  readonly copied: boolean
  readonly tone: 'needs-you' | 'runs' | 'done' | 'not-yet'
  /** Time left or time promised, in words. */
  readonly when: string
}
