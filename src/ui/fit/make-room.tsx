'use client'

import { useState } from 'react'
import { formatSize } from '@/core/bytes/size'
import { type Giver, giversFor } from '@/core/fit/givers'
import { PLATE_CHARACTERS, platePrefix } from '@/core/ready/plate-check'
import type { DriveSurvey } from '@/core/survey/types'
import { useActions } from '@/ui/frame/actions'
import { PlateCheck } from '@/ui/shared/plate-check'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { Dialog } from '@/ui/shared/dialog'
import type { FitOfPairProps } from './fit-frame'

interface MakeRoomProps extends Pick<FitOfPairProps, 'moveId' | 'pair' | 'acting'> {
  readonly targetSurvey: DriveSurvey
  /** What the volume that comes needs. */
  readonly needs: number
  /** It has no place as things are. */
  readonly open: boolean
  readonly roomMade: boolean
}

/** Neighbours on the target that could be made smaller for the volume that comes. */
export function MakeRoom({ moveId, pair, acting, targetSurvey, needs, open, roomMade }: MakeRoomProps) {
  const { giveRoomBack } = useActions()
  const { act, busy } = acting
  const [asked, setAsked] = useState<Giver>()
  const givers = giversFor(targetSurvey, needs)
  if (roomMade)
    return (
      <div className="mt-4" data-testid="room">
        <Callout>
          <span className="flex flex-wrap items-center justify-between gap-3">
            Room was made on the target. Until it is copied to, the room can be given back, byte for byte.
            <Button small disabled={busy} onClick={() => void act(() => giveRoomBack(moveId))}>
              Give it back
            </Button>
          </span>
        </Callout>
      </div>
    )
  if (givers.length === 0) return null
  return (
    <details className="mt-4" open={open} data-testid="room">
      <summary className="cursor-pointer font-semibold">Room from a neighbour</summary>
      <ul className="panel mt-2 divide-y divide-line">
        {givers.map((giver) => (
          <li
            key={giver.number}
            className="flex flex-wrap items-center justify-between gap-x-6 gap-y-2 px-[18px] py-2.5"
          >
            <span className="min-w-0">
              <span className="font-semibold">
                {giver.number} {giver.title}
              </span>{' '}
              gives {formatSize(giver.missing)} to a new partition
              <span className="block text-[13px] text-ink-soft">
                It has {formatSize(giver.spare)} to spare. Its files stay; it can be taken back until the copy.
              </span>
            </span>
            <Button small disabled={busy} onClick={() => setAsked(giver)}>
              Make it smaller
              <span className="sr-only">
                : {giver.number} {giver.title}
              </span>
            </Button>
          </li>
        ))}
      </ul>
      {asked && <RoomDialog {...{ moveId, pair, acting }} giver={asked} onClose={() => setAsked(undefined)} />}
    </details>
  )
}

function RoomDialog({
  moveId,
  pair,
  acting,
  giver,
  onClose,
}: Pick<MakeRoomProps, 'moveId' | 'pair' | 'acting'> & { giver: Giver; onClose: () => void }) {
  const { makeRoom } = useActions()
  const { act, busy } = acting
  const [plate, setPlate] = useState('')
  const target = pair.target!
  const send = async () => {
    if (await act(() => makeRoom(moveId, { neighbour: giver.number, plate }))) onClose()
  }
  return (
    <Dialog
      title={`Make ${giver.title} smaller on the ${target.name}`}
      open
      onClose={onClose}
      action="Make it smaller"
      onAct={() => void send()}
      busy={busy || plate.length < PLATE_CHARACTERS}
    >
      <div className="space-y-4">
        <p>
          Partition {giver.number} gives about {formatSize(giver.missing)}. What of it lies in the way is moved first,
          and kept; cut off at any moment, it is taken back.
        </p>
        <PlateCheck
          model={target.model}
          detail={target.name.slice(target.model.length).trim()}
          prefix={platePrefix(target.serial)}
          value={plate}
          onChange={setPlate}
        />
      </div>
    </Dialog>
  )
}
