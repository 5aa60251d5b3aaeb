'use client'

import { useState } from 'react'
import { LINKS, NETWORK_LINKS } from '@/core/things/links'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { Dialog } from './dialog'
import { ChoiceField, TextField } from './field'
import { useSaving } from './use-saving'

/** Asks another bench for what it lends. */
export function BorrowDialog({ onClose }: { onClose: () => void }) {
  const { go } = useAct()
  const { borrow } = useActions()
  const { save, busy, problem } = useSaving(() => {
    onClose()
    go('/lent')
  })
  const [wanted, setWanted] = useState({ address: '', code: '', bench: '', link: 'ethernet-1' })
  const set = (change: Partial<typeof wanted>) => setWanted({ ...wanted, ...change })
  return (
    <Dialog
      title="Borrow a drive of another bench"
      open
      onClose={onClose}
      action="Ask for it"
      onAct={() => void save(() => borrow(wanted))}
      busy={busy}
      problem={problem}
    >
      <div className="grid gap-3">
        <TextField
          label="Address, as the other bench shows it"
          value={wanted.address}
          placeholder="nbds://imbarco@192.168.7.31:10809/ostrica-s1"
          onChange={(event) => set({ address: event.target.value })}
        />
        <TextField
          label="Code, for an address that begins with nbds://"
          value={wanted.code}
          autoComplete="off"
          onChange={(event) => set({ code: event.target.value })}
        />
        <div className="grid gap-3 sm:grid-cols-2">
          <TextField
            label="Name of that bench, where it says none"
            value={wanted.bench}
            onChange={(event) => set({ bench: event.target.value })}
          />
          <ChoiceField
            label="Network to it"
            value={wanted.link}
            onChange={(event) => set({ link: event.target.value })}
          >
            {NETWORK_LINKS.map((id) => (
              <option key={id} value={id}>
                {LINKS[id].name}
              </option>
            ))}
          </ChoiceField>
        </div>
        <p className="text-[13.5px] text-ink-soft">
          Whoever sits there is asked, and says yes or no. The drive then stands on this bench, and is read where it is.
        </p>
      </div>
    </Dialog>
  )
}
