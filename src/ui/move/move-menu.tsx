'use client'

import { useState } from 'react'
import { ChevronDown } from 'lucide-react'
import { DropdownMenu } from 'radix-ui'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { Button } from '@/ui/shared/button'
import { Dialog } from '@/ui/shared/dialog'
import { TextField } from '@/ui/shared/field'

export interface MoveStanding {
  readonly kind: 'put-off' | 'given-up'
  readonly day: string
  readonly why: string
}

interface MoveMenuProps {
  readonly moveId: string
  readonly name: string
  readonly customer: string
  readonly standing: MoveStanding | null
}

type Asked = 'rename' | 'put-off' | 'give-up'

/** What can be done with a move as a whole: renamed, put off, given up. */
export function MoveMenu({ moveId, name, customer, standing }: MoveMenuProps) {
  const [asked, setAsked] = useState<Asked>()
  const close = () => setAsked(undefined)
  const item = 'cursor-default rounded px-3 py-1.5 outline-none data-[highlighted]:bg-sunk'
  return (
    <>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger asChild>
          <button
            type="button"
            aria-label={`Change the move ${name}`}
            data-testid="move-menu"
            className="rounded p-1 text-ink-soft hover:bg-sunk hover:text-ink"
          >
            <ChevronDown size={16} aria-hidden />
          </button>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content align="start" className="panel z-40 min-w-48 p-1 text-[15px]">
            <DropdownMenu.Item className={item} onSelect={() => setAsked('rename')}>
              Rename it
            </DropdownMenu.Item>
            {!standing && (
              <DropdownMenu.Item className={item} onSelect={() => setAsked('put-off')}>
                Put it off
              </DropdownMenu.Item>
            )}
            {standing?.kind !== 'given-up' && (
              <DropdownMenu.Item className={item} onSelect={() => setAsked('give-up')}>
                Give it up
              </DropdownMenu.Item>
            )}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {asked === 'rename' && <RenameDialog moveId={moveId} name={name} customer={customer} onClose={close} />}
      {(asked === 'put-off' || asked === 'give-up') && (
        <AsideDialog key={asked} moveId={moveId} what={asked} onClose={close} />
      )}
    </>
  )
}

function RenameDialog({ moveId, onClose, ...before }: Omit<MoveMenuProps, 'standing'> & { onClose: () => void }) {
  const { act } = useAct()
  const { renameMove } = useActions()
  const [name, setName] = useState(before.name)
  const [customer, setCustomer] = useState(before.customer)
  const save = async () => {
    if (await act(() => renameMove(moveId, { name, customer }))) onClose()
  }
  return (
    <Dialog title="Rename this move" open onClose={onClose} action="Rename" onAct={() => void save()}>
      <div className="grid gap-4 sm:grid-cols-2">
        <TextField label="Name" value={name} maxLength={80} onChange={(e) => setName(e.target.value)} />
        <TextField label="Customer" value={customer} maxLength={80} onChange={(e) => setCustomer(e.target.value)} />
      </div>
    </Dialog>
  )
}

const WORDS = {
  'put-off': {
    title: 'Put this move off?',
    means: 'Nothing of it can be done until it is taken up again. Its drives stay reserved for it.',
    action: 'Put it off',
  },
  'give-up': {
    title: 'Give this move up?',
    means:
      'It ends for good and is listed under Past. Nothing is written and no drive is moved: what is in a dock or on the shelf stays there. Its drives are free for other moves. A target with an unfinished copy stays marked, so that nothing starts from it, and that copy can no longer be resumed.',
    action: 'Give it up',
  },
}

function AsideDialog({ moveId, what, onClose }: { moveId: string; what: keyof typeof WORDS; onClose: () => void }) {
  const { act } = useAct()
  const { putOffMove, giveUpMove } = useActions()
  const [why, setWhy] = useState('')
  const { title, means, action } = WORDS[what]
  const save = async () => {
    const done = await act(() => (what === 'put-off' ? putOffMove(moveId, { why }) : giveUpMove(moveId, { why })))
    if (done) onClose()
  }
  return (
    <Dialog
      title={title}
      open
      onClose={onClose}
      action={action}
      onAct={() => void save()}
      busy={why.trim().length < 3}
      erases={what === 'give-up'}
    >
      <p className="mb-4 max-w-[70ch] text-ink-soft">{means}</p>
      <TextField label="Why" value={why} maxLength={300} onChange={(e) => setWhy(e.target.value)} />
    </Dialog>
  )
}

/** Says of a move that was laid aside that it was, and takes it up again. */
export function StandingNote({ moveId, standing }: { moveId: string; standing: MoveStanding }) {
  const { act } = useAct()
  const { takeUpMove } = useActions()
  return (
    <div
      className="panel mb-3.5 flex flex-wrap items-center justify-between gap-3 p-3"
      role="status"
      data-testid="standing"
    >
      <p>
        <strong>{standing.kind === 'put-off' ? 'Put off' : 'Given up'}</strong> on {standing.day}: {standing.why}
      </p>
      {standing.kind === 'put-off' && (
        <Button small onClick={() => void act(() => takeUpMove(moveId))}>
          Take up again
        </Button>
      )}
    </div>
  )
}
