'use client'

import { useState } from 'react'
import { X } from 'lucide-react'
import { useActions } from '@/ui/frame/actions'
import { Button, IconButton } from '@/ui/shared/button'
import { Dialog } from '@/ui/shared/dialog'
import { useSaving } from '@/ui/shared/use-saving'

interface RemoveButtonProps {
  readonly name: string
  readonly thing: { readonly kind: string; readonly id: string }
  /** Only a picture, where there is little room. */
  readonly icon?: boolean
}

/** Takes a thing off the bench for good, after asking once. */
export function RemoveButton({ name, thing, icon }: RemoveButtonProps) {
  const actions = useActions()
  const [asked, setAsked] = useState(false)
  const { save, busy, problem } = useSaving(() => setAsked(false))
  const label = `Take the ${name} off the bench`
  return (
    <>
      {icon ? (
        <IconButton label={label} onClick={() => setAsked(true)}>
          <X size={15} aria-hidden />
        </IconButton>
      ) : (
        <Button small onClick={() => setAsked(true)}>
          Remove<span className="sr-only"> the {name} from the bench</span>
        </Button>
      )}
      {asked && (
        <Dialog
          title={`Take the ${name} off the bench?`}
          open
          onClose={() => setAsked(false)}
          action="Take it off"
          onAct={() => void save(() => actions.removeThing(thing))}
          busy={busy}
          problem={problem}
          erases
        >
          <p>
            {thing.kind === 'drive'
              ? 'A blank drive goes with what was written on it. The file of an image stays in its folder.'
              : 'Its description goes. What a move needs stays on the bench until that is handed over.'}
          </p>
        </Dialog>
      )}
    </>
  )
}
