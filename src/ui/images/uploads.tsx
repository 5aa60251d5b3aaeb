'use client'

import { useRouter } from 'next/navigation'
import { useEffect, useRef, useState } from 'react'
import { clsx } from 'clsx'
import { Upload } from 'tus-js-client'
import { formatSize, MIB } from '@/core/bytes/size'
import { Link } from '@/ui/frame/link'
import { Button } from '@/ui/shared/button'
import { ProgressBar } from '@/ui/shared/progress-bar'

interface Running {
  readonly id: number
  readonly name: string
  readonly sent: number
  readonly total: number
  readonly state: 'sending' | 'held' | 'done' | 'failed'
  readonly sentence?: string
  /** What it is called in the images folder, once it is there. */
  readonly stored?: string
}

/** An upload that is not whole yet, as the server has it. */
export interface UnfinishedUpload {
  readonly id: string
  readonly name: string
  readonly sentBytes: number
  readonly totalBytes: number
}

const ENDPOINT = '/api/images/upload'
/** What is sent in one request; so much at most is sent again after a cut. */
const PIECE_BYTES = 64 * MIB

/** Where an image that has arrived leads. */
function ArrivedLinks({ name }: { name: string }) {
  const link = 'font-semibold text-sea-4 underline underline-offset-2'
  if (/\.(gz|zst|xz)$/i.test(name))
    return (
      <Link href={`/images?image=${encodeURIComponent(name)}`} className={link}>
        Unpack it
      </Link>
    )
  return (
    <>
      <Link href={`/images/${encodeURIComponent(name)}`} className={link}>
        Look inside
      </Link>
      <Link href={`/moves/new?image=${encodeURIComponent(name)}`} className={link}>
        Move this system
      </Link>
    </>
  )
}

/** Adds files to the images folder, those that are dropped anywhere on the page too. An upload that was cut goes on where it was when the same file is chosen again. */
export function Uploads({
  unfinished,
  words = 'Drop image files here, or choose them. A cut upload resumes where it was.',
  choose = 'Choose files',
}: {
  unfinished: readonly UnfinishedUpload[]
  /** What the place says that files are dropped on. */
  words?: string
  choose?: string
}) {
  const router = useRouter()
  const [list, setList] = useState<readonly Running[]>([])
  const [over, setOver] = useState(false)
  const uploads = useRef(new Map<number, Upload>())
  const next = useRef(1)
  const picker = useRef<HTMLInputElement>(null)
  const change = (id: number, changes: Partial<Running>) =>
    setList((before) => before.map((u) => (u.id === id ? { ...u, ...changes } : u)))

  const add = async (file: File) => {
    const id = next.current++
    setList((before) => [{ id, name: file.name, sent: 0, total: file.size, state: 'sending' }, ...before])
    const upload = new Upload(file, {
      endpoint: ENDPOINT,
      chunkSize: PIECE_BYTES,
      retryDelays: [0, 500, 2000, 5000, 10_000, 20_000],
      metadata: { filename: file.name },
      removeFingerprintOnSuccess: true,
      onProgress: (sent, total) => change(id, { sent, total }),
      onSuccess: ({ lastResponse }) => {
        const stored = decodeURIComponent(lastResponse.getHeader('x-stored-name') ?? encodeURIComponent(file.name))
        change(id, { state: 'done', sent: file.size, stored })
        router.refresh()
      },
      onError: (error) => {
        const body = 'originalResponse' in error ? error.originalResponse?.getBody() : undefined
        change(id, { state: 'failed', sentence: body?.trim() || 'The upload was cut. Choose the file again to go on.' })
      },
    })
    uploads.current.set(id, upload)
    const [earlier] = await upload.findPreviousUploads()
    if (earlier) upload.resumeFromPreviousUpload(earlier)
    upload.start()
  }

  const latest = useRef(add)
  useEffect(() => {
    latest.current = add
  })
  // A file that is let go beside the place for it would be opened by the browser, in place of the page.
  useEffect(() => {
    const holdsFiles = (event: DragEvent) => event.dataTransfer?.types.includes('Files') === true
    const onOver = (event: DragEvent) => {
      if (!holdsFiles(event)) return
      event.preventDefault()
      setOver(true)
    }
    const onLeave = (event: DragEvent) => event.relatedTarget === null && setOver(false)
    const onDrop = (event: DragEvent) => {
      if (!holdsFiles(event)) return
      event.preventDefault()
      setOver(false)
      for (const file of event.dataTransfer!.files) void latest.current(file)
    }
    window.addEventListener('dragover', onOver)
    window.addEventListener('dragleave', onLeave)
    window.addEventListener('drop', onDrop)
    return () => {
      window.removeEventListener('dragover', onOver)
      window.removeEventListener('dragleave', onLeave)
      window.removeEventListener('drop', onDrop)
    }
  }, [])

  const hold = async (id: number) => {
    await uploads.current.get(id)?.abort()
    change(id, { state: 'held' })
  }
  const cancel = async (id: number) => {
    await uploads.current.get(id)?.abort(true)
    setList((before) => before.filter((u) => u.id !== id))
    router.refresh()
  }
  const remove = async (id: string) => {
    await fetch(`${ENDPOINT}/${encodeURIComponent(id)}`, { method: 'DELETE', headers: { 'tus-resumable': '1.0.0' } })
    router.refresh()
  }
  // Those of this page are listed with their progress.
  const left = unfinished.filter((u) => !list.some((own) => own.state !== 'done' && own.name === u.name))
  const goOn = (id: number) => {
    change(id, { state: 'sending', sentence: undefined })
    uploads.current.get(id)?.start()
  }

  return (
    <div
      className={clsx(
        'rounded-lg border border-dashed p-3.5',
        over ? 'border-magenta bg-magenta-wash' : 'border-line-strong',
      )}
      data-testid="drop"
    >
      <div className="flex flex-wrap items-center justify-between gap-3">
        <p className="text-ink-soft">{words}</p>
        <Button onClick={() => picker.current?.click()}>{choose}</Button>
        <input
          ref={picker}
          type="file"
          multiple
          className="sr-only"
          aria-label="Image files to add"
          tabIndex={-1}
          onChange={(event) => {
            for (const file of event.target.files ?? []) void add(file)
            event.target.value = ''
          }}
        />
      </div>
      {list.length > 0 && (
        <ul className="mt-3 space-y-2" data-testid="uploads">
          {list.map((upload) => (
            <li key={upload.id} data-state={upload.state}>
              <div className="flex items-baseline justify-between gap-3">
                <span className="font-semibold break-all">{upload.name}</span>
                {upload.state === 'sending' && (
                  <Button small onClick={() => void hold(upload.id)}>
                    Pause
                  </Button>
                )}
                {(upload.state === 'held' || upload.state === 'failed') && (
                  <span className="flex gap-2">
                    <Button small onClick={() => void cancel(upload.id)}>
                      Cancel
                    </Button>
                    <Button small onClick={() => goOn(upload.id)}>
                      Resume
                    </Button>
                  </span>
                )}
                {upload.state === 'done' && (
                  <span className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
                    <span className="text-[13px] font-semibold text-weed">It has arrived</span>
                    <ArrivedLinks name={upload.stored ?? upload.name} />
                  </span>
                )}
              </div>
              {upload.state !== 'done' && (
                <ProgressBar
                  label={upload.name}
                  share={upload.total > 0 ? upload.sent / upload.total : 0}
                  note={`${formatSize(upload.sent)} of ${formatSize(upload.total)}`}
                />
              )}
              {upload.sentence && <p className="text-[13px] text-vermilion">{upload.sentence}</p>}
            </li>
          ))}
        </ul>
      )}
      {left.length > 0 && (
        <ul className="mt-3 space-y-2" data-testid="unfinished-uploads">
          {left.map((upload) => (
            <li key={upload.id} className="flex flex-wrap items-baseline justify-between gap-x-3">
              <span className="text-ink-soft">
                <span className="font-semibold break-all text-ink">{upload.name}</span>, {formatSize(upload.sentBytes)}{' '}
                of {formatSize(upload.totalBytes)} have arrived. Choose the file again to resume it.
              </span>
              <Button small onClick={() => void remove(upload.id)}>
                Delete
                <span className="sr-only"> the part of {upload.name}</span>
              </Button>
            </li>
          ))}
        </ul>
      )}
    </div>
  )
}
