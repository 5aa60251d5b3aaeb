'use client'

import { useEffect, useState } from 'react'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { Button } from '@/ui/shared/button'

export interface EmulatedProps {
  readonly subject: { readonly kind: 'drives' | 'images'; readonly id: string }
  readonly mode: 'uefi' | 'bios'
  /** The one that runs with this disk. */
  readonly jobId: string | null
  /** There is firmware by UEFI for it. */
  readonly uefi: boolean
  /** A move is told of what was seen. */
  readonly hasMove: boolean
}

/** A picture is asked for so often. */
const EVERY_MS = 1000

/** The disk started in an emulated computer, with what its screen shows. */
export function Emulated({ subject, mode, jobId, uefi, hasMove }: EmulatedProps) {
  const { act, busy } = useAct()
  const { startEmulated, tellEmulated } = useActions()
  const canStart = mode === 'bios' || uefi
  const tell = (came: boolean) => void act(() => tellEmulated({ subject, came }))
  return (
    <section className="panel mt-4 p-[18px]" aria-label="In an emulated computer">
      <div className="flex flex-wrap items-start justify-between gap-3">
        <div className="max-w-[64ch]">
          <h2 className="text-[17px] font-bold">In an emulated computer</h2>
          <p className="text-ink-soft">
            It is started over an overlay, so that nothing is written to the disk, and without network. Its hardware is
            not that of the computer it is for.
          </p>
        </div>
        {jobId === null ? (
          <Button
            disabled={busy || !canStart}
            onClick={() => void act(() => startEmulated({ subject, firmware: mode }))}
          >
            Start it in an emulated computer
          </Button>
        ) : (
          <Button onClick={() => void fetch(`/api/jobs/${jobId}`, { method: 'DELETE' })}>End it</Button>
        )}
      </div>
      {!canStart && (
        <p className="mt-2 text-[13.5px] text-ink-soft">
          The emulator here has no firmware by UEFI; the package ovmf has it.
        </p>
      )}
      {jobId !== null && <Screen jobId={jobId} />}
      {jobId !== null && hasMove && (
        <div className="mt-3 flex flex-wrap items-center gap-2">
          <span className="text-[13.5px] text-ink-soft">What did you see?</span>
          <Button small disabled={busy} onClick={() => tell(true)}>
            It starts
          </Button>
          <Button small disabled={busy} onClick={() => tell(false)}>
            It does not start
          </Button>
        </div>
      )}
    </section>
  )
}

function Screen({ jobId }: { jobId: string }) {
  const [count, setCount] = useState(0)
  const [serial, setSerial] = useState('')
  useEffect(() => {
    const clock = setInterval(() => {
      setCount((n) => n + 1)
      void fetch(`/api/emulated/${jobId}/serial`)
        .then((response) => response.json())
        .then((said: { value?: string }) => setSerial(typeof said.value === 'string' ? said.value : ''))
        .catch(() => {})
    }, EVERY_MS)
    return () => clearInterval(clock)
  }, [jobId])
  return (
    <div className="mt-3">
      {/* oxlint-disable-next-line nextjs/no-img-element -- it is another one every second */}
      <img
        data-testid="emulated-screen"
        src={`/api/emulated/${jobId}/screen?n=${count}`}
        alt="What the screen of the emulated computer shows now"
        className="w-full max-w-[800px] rounded border border-line-strong bg-[#000]"
      />
      {serial.trim() !== '' && (
        <pre
          data-testid="emulated-serial"
          aria-label="Its serial line"
          className="mt-2 max-h-48 overflow-auto rounded bg-sunk p-2 font-mono text-[12.5px] whitespace-pre-wrap"
        >
          {serial}
        </pre>
      )}
    </div>
  )
}
