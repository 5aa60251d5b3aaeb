'use client'

import { useState } from 'react'
import { useAct } from '@/ui/frame/act'
import type { Outcome } from '@/ui/frame/actions'
import { Button } from '@/ui/shared/button'
import { Dialog } from '@/ui/shared/dialog'

export interface DeleteImageProps {
  readonly name: string
  /** As the end of "The file …, ": what it takes, and where. */
  readonly takes: string
  /** The volume that it lies in; absent for the images folder. */
  readonly on?: { readonly driveId: string; readonly partition: number }
  readonly small?: boolean
}

/** Deletes an image, after asking. */
export function DeleteImage({ name, takes, on, small }: DeleteImageProps) {
  const { act, busy } = useAct()
  const [asked, setAsked] = useState(false)
  const remove = async () => {
    const query = on ? `?drive=${encodeURIComponent(on.driveId)}&partition=${on.partition}` : ''
    const path = `/api/images/files/${encodeURIComponent(name)}${query}`
    const done = await act(async () => (await (await fetch(path, { method: 'DELETE' })).json()) as Outcome)
    if (done) setAsked(false)
  }
  return (
    <>
      <Button className={small ? '' : 'mt-2 w-full'} small={small} disabled={busy} onClick={() => setAsked(true)}>
        {small ? 'Delete' : 'Delete the image'}
      </Button>
      {asked && (
        <Dialog
          title="Delete this image?"
          open
          onClose={() => setAsked(false)}
          action="Delete it"
          onAct={() => void remove()}
          busy={busy}
          erases
        >
          <p>
            The file <span className="font-mono text-[13.5px] break-all">{name}</span>, {takes}, is deleted for good.
          </p>
        </Dialog>
      )}
    </>
  )
}
