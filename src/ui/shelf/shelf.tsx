'use client'

import { useEffect, useState } from 'react'
import { Link } from '@/ui/frame/link'
import type { JobView } from '@/core/job'
import type { FreePlace } from '@/core/things/bench'
import { PLATE_CHARACTERS } from '@/core/ready/plate-check'
import { useAct } from '@/ui/frame/act'
import { type Outcome, useActions } from '@/ui/frame/actions'
import { JobStrip } from '@/ui/job/job-strip'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { PlateCheck } from '@/ui/shared/plate-check'
import { Button } from '@/ui/shared/button'
import { Choice } from '@/ui/shared/choice'
import { Dialog } from '@/ui/shared/dialog'
import { TextField } from '@/ui/shared/field'

interface Shelved {
  readonly id: string
  readonly name: string
  readonly model: string
  readonly serial: string
  readonly fits: string
  readonly platePrefix: string
  readonly label: string
  readonly until: string
  readonly days: number | undefined
  /** Its day has come. */
  readonly due: boolean
  /** And no move needs it. */
  readonly mayErase: boolean
  readonly hasBytes: boolean
  /** It can be told to forget what it holds. */
  readonly forgets: boolean
  /** The moves that it was the source of, the newest first. */
  readonly moves: readonly {
    readonly id: string
    readonly name: string
    readonly customer: string
    readonly handedOver: boolean
  }[]
  /** Where it is, of one that stays in its computer. */
  readonly inside: string | null
}

/** Old drives that were set aside: each with its day. */
export function Shelf({ bench, drives, job }: { bench: string; drives: readonly Shelved[]; job?: JobView }) {
  const { go, busy } = useAct()
  const [asked, setAsked] = useState<{ what: 'erase' | 'put-back'; drive: Shelved }>()
  const due = drives.filter((d) => d.mayErase)
  const close = () => setAsked(undefined)
  return (
    <Stage
      heading={
        drives.length === 0
          ? 'The shelf is empty'
          : due.length > 0
            ? `${due.length === 1 ? 'One drive' : `${due.length} drives`} may be erased`
            : 'Nothing may be erased yet'
      }
      reason={`Old drives of the bench ${bench}. Until its day each is the way back; from its day on it may be erased and used again.`}
      aside={
        <AsideBlock title="The rule">
          <p className="text-ink-soft">
            A drive is erased by its plate: the last four characters of the serial on its label. Before its day it takes
            a reason, which stays in the logbook.
          </p>
        </AsideBlock>
      }
      next={
        due[0] ? (
          <NextAction
            label={`Erase the ${due[0].name}`}
            onAct={() => setAsked({ what: 'erase', drive: due[0] })}
            disabled={busy}
            hint="Its plate is asked for first."
          />
        ) : (
          <NextAction label="Go to the bench" onAct={() => go('/bench')} disabled={busy} />
        )
      }
    >
      {job && (
        <div className="mb-3.5">
          <JobStrip job={job} />
        </div>
      )}
      {drives.length > 0 && (
        <ul className="panel divide-y divide-line" data-testid="shelf">
          {drives.map((drive) => (
            <li
              key={drive.id}
              className="grid items-center gap-x-6 gap-y-2 px-[18px] py-3.5 md:grid-cols-[minmax(0,1.3fr)_minmax(0,1fr)_224px]"
            >
              <div>
                <p className="text-[15px] font-bold">{drive.name}</p>
                <p className="font-mono text-[13px] text-ink-soft">s/n {drive.serial}</p>
                <p className="text-[13px] text-ink-soft">
                  {drive.label}
                  {drive.moves.map((move, i) => (
                    <span key={move.id}>
                      {(drive.label || i > 0) && ' · '}
                      <Link href={`/moves/${move.id}`} className="underline underline-offset-2">
                        {drive.moves.length > 1 ? `${move.name}, ${move.customer}` : move.customer}
                      </Link>
                    </span>
                  ))}
                </p>
              </div>
              <p>
                <span className={drive.mayErase ? 'font-semibold text-magenta' : 'font-semibold'}>
                  {dueWords(drive)}
                </span>
                {drive.until && <span className="block text-[13px] text-ink-soft">kept until {drive.until}</span>}
                {drive.inside && <span className="block text-[13px] text-ink-soft">stays in the {drive.inside}</span>}
              </p>
              <div className="flex flex-wrap gap-2">
                <Link
                  href={`/labels/${drive.id}`}
                  className="rounded-md border border-line-strong bg-sheet px-2.5 py-0.5 text-[13px] font-semibold hover:bg-sunk"
                >
                  Label
                  <span className="sr-only"> of the {drive.name}</span>
                </Link>
                {drive.inside === null && (
                  <Button small disabled={busy} onClick={() => setAsked({ what: 'put-back', drive })}>
                    Put it back
                    <span className="sr-only">: {drive.name}</span>
                  </Button>
                )}
                <Button
                  small
                  tone="erases"
                  disabled={busy || !drive.hasBytes || drive.moves.some((m) => !m.handedOver)}
                  onClick={() => setAsked({ what: 'erase', drive })}
                >
                  Erase it
                  <span className="sr-only">: {drive.name}</span>
                </Button>
              </div>
            </li>
          ))}
        </ul>
      )}
      {asked?.what === 'erase' && <EraseDialog drive={asked.drive} onClose={close} />}
      {asked?.what === 'put-back' && <PutBackDialog drive={asked.drive} onClose={close} />}
    </Stage>
  )
}

function dueWords({ days, mayErase, moves }: Shelved): string {
  const open = moves.find((m) => !m.handedOver)
  if (open) return moves.length > 1 ? `until ${open.name} is handed over` : 'until its move is handed over'
  if (days === undefined) return 'no day was set'
  if (days <= 0) return mayErase ? 'may be erased' : 'its day has come'
  return days === 1 ? 'one more day' : `${days} more days`
}

function EraseDialog({ drive, onClose }: { drive: Shelved; onClose: () => void }) {
  const { act, busy } = useAct()
  const { eraseDrive } = useActions()
  const [plate, setPlate] = useState('')
  const [how, setHow] = useState('zeros')
  const [reason, setReason] = useState('')
  const [then, setThen] = useState(drive.inside === null ? '' : 'ntfs')
  const [label, setLabel] = useState('')
  const early = !drive.due
  const volume = then === '' ? {} : { volume: { kind: then, label } }
  const send = async () => {
    if (await act(() => eraseDrive({ driveId: drive.id, how, plate, reason, ...volume }))) onClose()
  }
  return (
    <Dialog
      title={`Erase the ${drive.name}`}
      open
      onClose={onClose}
      action="Erase it for good"
      onAct={() => void send()}
      busy={busy || plate.length < PLATE_CHARACTERS || (early && reason.trim().length < 10)}
    >
      <div className="space-y-4">
        <p>
          {early
            ? `It is the way back${drive.until ? ` until ${drive.until}` : ''}. Erased now, there is none.`
            : 'Its day has come. Everything on it goes; it is read back to prove that.'}
        </p>
        <PlateCheck
          model={drive.model}
          detail={`${drive.name.slice(drive.model.length).trim()} · ${drive.fits}`}
          prefix={drive.platePrefix}
          value={plate}
          onChange={setPlate}
        />
        <Choice
          label="How"
          value={how}
          disabled={busy}
          onChange={setHow}
          options={[
            ['zeros', 'Zeros over everything that was written'],
            ...(drive.forgets ? [['discard', 'The drive is told to forget it all'] as const] : []),
          ]}
        />
        {drive.inside && (
          <div className="grid gap-x-4 gap-y-3 sm:grid-cols-2">
            <Choice
              label="Afterwards"
              value={then}
              disabled={busy}
              onChange={setThen}
              options={[
                ['ntfs', 'a data volume, NTFS'],
                ['exfat', 'a data volume, exFAT'],
                ['', 'nothing is on it'],
              ]}
            />
            {then !== '' && (
              <TextField
                label="Label of the volume"
                value={label}
                maxLength={40}
                onChange={(event) => setLabel(event.target.value)}
              />
            )}
          </div>
        )}
        {early && (
          <label className="block">
            <span className="mb-1 block text-[13px] text-ink-soft">Why before its day? The logbook will say it.</span>
            <textarea
              value={reason}
              rows={2}
              maxLength={300}
              onChange={(event) => setReason(event.target.value)}
              className="w-full rounded-md border border-line-strong bg-paper px-2.5 py-1.5"
            />
          </label>
        )}
      </div>
    </Dialog>
  )
}

/** The slots that take a drive, asked for when it is to be put into one; undefined until they are known. */
function useOpenings(driveId: string): { openings: readonly FreePlace[] | undefined; problem: string | undefined } {
  const [openings, setOpenings] = useState<readonly FreePlace[]>()
  const [problem, setProblem] = useState<string>()
  useEffect(() => {
    const abort = new AbortController()
    fetch(`/api/bench/drives/${encodeURIComponent(driveId)}/openings`, { signal: abort.signal })
      .then((response) => response.json() as Promise<Outcome>)
      .then((answer) => (answer.ok ? setOpenings(answer.value as FreePlace[]) : setProblem(answer.sentence)))
      .catch(() => {
        if (!abort.signal.aborted) setProblem('The server could not be reached. Open this once more.')
      })
    return () => abort.abort()
  }, [driveId])
  return { openings, problem }
}

function PutBackDialog({ drive, onClose }: { drive: Shelved; onClose: () => void }) {
  const { act, busy } = useAct()
  const { putBack } = useActions()
  const { openings, problem } = useOpenings(drive.id)
  const [key, setKey] = useState<string>()
  const chosen = openings?.find((o) => o.key === key) ?? openings?.[0]
  const send = async () => {
    if (chosen && (await act(() => putBack({ driveId: drive.id, place: chosen.place })))) onClose()
  }
  return (
    <Dialog
      title={`Put the ${drive.name} back`}
      open
      onClose={onClose}
      action="It is in"
      onAct={() => void send()}
      busy={busy || !chosen}
      problem={problem}
    >
      {openings && !chosen && <p>No free slot on this bench takes it. Take out what is in its place first.</p>}
      {!openings && !problem && <p>Looking which slots take it.</p>}
      {openings && chosen && (
        <div className="space-y-3">
          <p>The computer has to be without power, and the new drive out: both carry one identity.</p>
          <Choice
            label="Into"
            value={chosen.key}
            disabled={busy}
            onChange={setKey}
            options={openings.map((o) => [o.key, o.name] as const)}
          />
        </div>
      )}
    </Dialog>
  )
}
