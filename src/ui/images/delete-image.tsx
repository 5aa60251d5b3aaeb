'use client'

import { useState } from 'react'
import { formatSize } from '@/core/bytes/size'
import type { ImageSummary } from '@/core/image/views'
import { useAct } from '@/ui/frame/act'
import type { Outcome } from '@/ui/frame/actions'
import { Button } from '@/ui/shared/button'
import { Dialog } from '@/ui/shared/dialog'

/** Deletes an image, after asking. */
export function DeleteImage({ image }: { image: ImageSummary }) {
  const { act, busy } = useAct()
  const [asked, setAsked] = useState(false)
  const remove = async () => {
    const path = `/api/images/files/${encodeURIComponent(image.name)}`
    const done = await act(async () => (await (await fetch(path, { method: 'DELETE' })).json()) as Outcome)
    if (done) setAsked(false)
  }
  return (
    <>
      <Button className="mt-2 w-full" disabled={busy} onClick={() => setAsked(true)}>
        Delete the image
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
            The file <span className="font-mono text-[13.5px] break-all">{image.name}</span>,{' '}
            {formatSize(image.hostBytes)} on this host, is deleted for good.
          </p>
        </Dialog>
      )}
    </>
  )
}
