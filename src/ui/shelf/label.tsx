'use client'

import { Link } from '@/ui/frame/link'
import { QRCodeSVG } from 'qrcode.react'
import { Button } from '@/ui/shared/button'

export interface LabelView {
  readonly name: string
  readonly serial: string
  readonly customer: string
  readonly move: string
  readonly until: string
  /** What the code says. */
  readonly code: string
}

/** The label that goes on an old drive: 89 by 41 millimetres, alone on its page. */
export function Label({ label }: { label: LabelView }) {
  return (
    <main className="mx-auto flex min-h-dvh max-w-2xl flex-col justify-center gap-6 px-6 py-8 print:min-h-0 print:p-0">
      <h1 className="no-print" data-testid="finding">
        Label for the {label.name}
      </h1>
      <p className="no-print text-[15.5px] text-ink-soft">
        {label.until
          ? 'Stick it on before the drive goes on the shelf.'
          : 'It has no day yet: that is set when the move is handed over. Print it again then.'}
      </p>
      <article
        className="flex w-[89mm] items-center gap-[4mm] rounded-lg border-2 border-black bg-white p-[4mm] text-black print:rounded-none"
        data-testid="label"
      >
        <QRCodeSVG value={label.code} size={104} level="M" title="The same in a code" className="shrink-0" />
        <div className="min-w-0 leading-[1.25]">
          <p className="text-[11px]">Old drive, do not start with the new one</p>
          <p className="text-[15px] font-bold">{label.name}</p>
          <p className="font-mono text-[11px]">s/n {label.serial}</p>
          {label.customer && <p className="mt-1 text-[12px]">{label.customer}</p>}
          {label.move && <p className="text-[11px]">{label.move}</p>}
          <p className="mt-1 text-[13px] font-bold">
            {label.until ? `Keep until ${label.until}` : 'Keep until handover'}
          </p>
        </div>
      </article>
      <p className="no-print flex flex-wrap items-center gap-4">
        <Button onClick={() => window.print()}>Print the label</Button>
        <Link href="/shelf" className="font-semibold text-magenta underline">
          To the shelf
        </Link>
      </p>
    </main>
  )
}
