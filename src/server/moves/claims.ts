import type { Brief } from '@/core/intake/brief'
import { legsOf, type Transfer } from '@/core/route/types'
import type { Drive } from '@/core/things/drive'
import { MoveRow, movesVersion } from '../database/models'
import { log } from '../ground/log'
import { singleton } from '../ground/singleton'

/** What one move of a bench has or wants: all that others ask of it. */
export interface MoveClaim {
  readonly id: string
  readonly name: string
  readonly customer: string
  readonly handedOver: boolean
  readonly pairs: Brief['pairs']
  /** It was put off, and does nothing until somebody takes it up. */
  readonly putOff: boolean
  readonly series: string | undefined
  /** Its old drives stay in their computer. */
  readonly oldDriveStays: boolean
  /** Copies of the plan that was taken; none before one was. */
  readonly transfers: readonly Transfer[]
  /** Images on drives that its plan makes or begins with. */
  readonly images: readonly { readonly driveId: string; readonly name: string }[]
}

interface Known {
  readonly version: number
  readonly claims: Promise<readonly MoveClaim[]>
}

const known = () => singleton('move-claims', () => new Map<string, Known>())

/** The claims of all moves of a bench that were not given up, in their order. Worked out once for each state of the moves. */
export function moveClaims(benchId: string): Promise<readonly MoveClaim[]> {
  const version = movesVersion()
  const now = known().get(benchId)
  if (now?.version === version) return now.claims
  const claims = readClaims(benchId)
  known().set(benchId, { version, claims })
  return claims
}

async function readClaims(benchId: string): Promise<MoveClaim[]> {
  const rows = await MoveRow.findAll({
    where: { benchId },
    attributes: ['id', 'brief', 'handover', 'route', 'standing'],
    order: [['position', 'ASC']],
  })
  return rows.flatMap((row) => {
    try {
      return row.standing?.kind === 'given-up' ? [] : [claimOf(row)]
    } catch (error) {
      log.error(error)
      return []
    }
  })
}

function claimOf(row: MoveRow): MoveClaim {
  const { id, brief, handover } = row
  // A plan that cannot be read takes nothing from what the move is known to have.
  let transfers: readonly Transfer[] = []
  let images: MoveClaim['images'] = []
  try {
    transfers = row.route ? legsOf(row.route.plan).legs.map((leg) => leg.transfer) : []
    images = (row.route?.images ?? []).flatMap(({ leg, end, name, volume }) => {
      const medium = transfers[leg]?.[end]
      return volume && medium?.kind === 'image' ? [{ driveId: medium.store, name }] : []
    })
  } catch (error) {
    log.error(error)
  }
  return {
    id,
    name: brief.name,
    customer: brief.customer,
    handedOver: handover !== null,
    pairs: brief.pairs,
    putOff: row.standing !== null,
    series: brief.series,
    oldDriveStays: brief.oldDrive === 'stays',
    transfers,
    images,
  }
}

/** The drive that a transfer writes, if it writes one. */
export const driveWritten = ({ to }: Transfer): string[] => (to.kind === 'drive' ? [to.driveId] : [])

/** The moves that a drive was the source of, the newest first. */
export const movesFrom = (driveId: string, claims: readonly MoveClaim[]): readonly MoveClaim[] =>
  claims.filter((claim) => claim.pairs.some((p) => p.sourceId === driveId)).toReversed()

/** An old drive that was left in its computer beside the new one, with a day like those on the shelf. */
export function staysInside({ place, shelf }: Drive, [newest]: readonly MoveClaim[]): boolean {
  return place.kind === 'slot' && shelf !== undefined && newest?.handedOver === true && newest.oldDriveStays
}
