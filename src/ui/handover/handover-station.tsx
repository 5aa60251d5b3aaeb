'use client'

import { useState, useSyncExternalStore } from 'react'
import { Link } from '@/ui/frame/link'
import { CircleCheck, CircleDashed } from 'lucide-react'
import { formatSize } from '@/core/bytes/size'
import { type Sheet, sheetAdvice, sheetRows, sheetTitle } from '@/core/handover/sheet'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { DepthProfile } from '@/ui/shared/depth-profile'
import { TextField } from '@/ui/shared/field'
import { Plate, type PlateDrive } from '@/ui/shared/plate'

interface HandoverView {
  readonly sheet: Sheet
  /** Today on the bench, as `2026-05-04`. */
  readonly today: string
  readonly closed: { readonly at: string; readonly shelfUntil: string } | null
  readonly closing: string | null
  readonly plates: readonly { readonly source: PlateDrive & { readonly id: string }; readonly target: PlateDrive }[]
  readonly profile: readonly number[]
  readonly sourceBytes: number
}

const BY = 'imbarco-done-by'

/** The sheet: what was done, with the figures. */
export function HandoverStation({ moveId, view }: { moveId: string; view: HandoverView }) {
  const { act, go, busy } = useAct()
  const { handOver } = useActions()
  const { closed, closing } = view
  // One system went, and both drives are in use.
  const alone = view.sheet.drives.some((d) => d.volume)
  const [day, setDay] = useState(view.today)
  const [shop, setShop] = useState(view.sheet.shop)
  // What is typed stands on the sheet at once.
  const sheet = closed ? view.sheet : { ...view.sheet, shop: shop.trim() || view.sheet.shop }
  const [by, setBy] = useState('')
  // Whoever handed the last one over most likely hands this one over too.
  const remembered = useRemembered(BY)
  const name = by || remembered
  const file = (as: string) => `/api/moves/${moveId}/sheet?as=${as}`
  return (
    <Stage
      heading={closed ? `Handed over on ${sheet.handedOver?.day}` : 'The sheet is ready to go with the computer'}
      reason={
        alone
          ? `${sheet.move.customer} gets both computers back with this sheet; the source stays in use.`
          : sheet.oldDriveStays
            ? `${closed ? '' : `${sheet.move.customer} gets the ${sheet.computer.name} back with this sheet. `}The old drive is still in it, as the way back${sheet.keptUntil ? ` until ${sheet.keptUntil}` : ' for 14 days'}.`
            : closed
              ? `The old drive stays on the shelf until ${sheet.keptUntil}; until then it is the way back.`
              : `${sheet.move.customer} gets the ${sheet.onto ? sheet.onto.name : `${sheet.computer.name} back`} with this sheet. The old drive goes on the shelf for 14 days.`
      }
      tools={
        <>
          <Button onClick={() => window.print()}>Print</Button>
          <FileLink href={file('pdf')}>PDF</FileLink>
          <FileLink href={file('json')}>JSON</FileLink>
        </>
      }
      aside={
        <>
          <AsideBlock title="Goes back">
            <div className="space-y-3">
              {view.plates.map((p) => (
                <Plate key={p.target.serial} drive={p.target} role={alone ? 'Target' : 'New drive'} />
              ))}
            </div>
          </AsideBlock>
          <AsideBlock title={alone ? 'Stays in use' : sheet.oldDriveStays ? 'Goes back with it' : 'Stays here'}>
            <div className="space-y-3">
              {view.plates.map((p) => (
                <div key={p.source.serial}>
                  <Plate drive={p.source} role={alone ? 'Source' : 'Old drive, the way back'} />
                  {!alone && (
                    <Link
                      href={`/labels/${p.source.id}`}
                      className="mt-1.5 inline-block font-semibold text-sea-4 underline underline-offset-2"
                    >
                      Its label
                    </Link>
                  )}
                </div>
              ))}
            </div>
          </AsideBlock>
          {closed ? (
            <Callout tone="good">
              Closed at {closed.at}. The label for the old drive says: keep until {sheet.keptUntil}.
            </Callout>
          ) : (
            <AsideBlock title="On the sheet">
              <div className="space-y-3">
                <TextField
                  label="Done by"
                  value={name}
                  maxLength={60}
                  placeholder="Your name"
                  onChange={(event) => setBy(event.target.value)}
                />
                <TextField label="Day" type="date" value={day} onChange={(event) => setDay(event.target.value)} />
                <TextField
                  label="Shop, with its address"
                  value={shop}
                  maxLength={160}
                  onChange={(event) => setShop(event.target.value)}
                />
              </div>
            </AsideBlock>
          )}
          {sheet.stillOff.length > 0 && !closed && (
            <Callout>Turned off for the copy and not on again: {sheet.stillOff.join(', ')}. Proof turns it on.</Callout>
          )}
        </>
      }
      next={
        closed ? (
          <NextAction label="Print the sheet" onAct={() => window.print()} />
        ) : closing ? (
          <NextAction
            label="Close the case"
            onAct={() => go(`/moves/${moveId}/swap`)}
            disabled={busy}
            hint={`Next in Swap: ${closing}.`}
          />
        ) : (
          <NextAction
            label="Hand it over"
            onAct={() => {
              localStorage.setItem(BY, name)
              void act(() =>
                handOver(moveId, {
                  by: name,
                  ...(day !== '' && day !== view.today ? { day } : {}),
                  ...(shop.trim() === view.sheet.shop ? {} : { shop }),
                }),
              )
            }}
            disabled={busy}
          />
        )
      }
    >
      <SheetPage view={{ ...view, sheet }} />
    </Stage>
  )
}

function FileLink({ href, children }: { href: string; children: string }) {
  return (
    <a
      href={href}
      download
      className="rounded-md border border-line-strong bg-sheet px-3.5 py-2 font-semibold hover:bg-sunk"
    >
      {children}
    </a>
  )
}

const never = () => () => {}

/** What this browser keeps under a name; empty on the server. */
function useRemembered(key: string): string {
  return useSyncExternalStore(
    never,
    () => localStorage.getItem(key) ?? '',
    () => '',
  )
}

function SheetPage({ view }: { view: HandoverView }) {
  const { sheet } = view
  const { start } = sheet
  return (
    <article className="panel p-6 print:border-0 print:p-0" data-testid="sheet">
      <header className="mb-4 flex flex-wrap items-baseline justify-between gap-x-4 border-b border-line-strong pb-3">
        <h2 className="text-[20px] font-[720] [font-stretch:112%]">{sheetTitle(sheet)}</h2>
        <p className="text-ink-soft">
          {sheet.shop} · {sheet.day}
        </p>
      </header>
      <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-6 gap-y-1.5">
        {sheetRows(sheet).map(([name, value], i) => (
          <div key={i} className="contents">
            <dt className="text-ink-soft">{name}</dt>
            <dd className="font-mono text-[13px] break-words">{value}</dd>
          </div>
        ))}
      </dl>
      <h3 className="mt-5 mb-1 font-bold">What was where on the old drive</h3>
      <DepthProfile
        profile={view.profile}
        sizeBytes={view.sourceBytes}
        label={`Use of the ${sheet.drives[0].from.name} when it was copied`}
      />
      <div className="mt-4 grid gap-x-8 gap-y-5 xl:grid-cols-2 print:grid-cols-2">
        <section>
          <h3 className="mb-1.5 font-bold">Partitions</h3>
          <table className="w-full text-[13px]">
            <thead className="border-b border-line-strong text-ink-soft">
              <tr>
                <th scope="col" className="py-1 text-left font-semibold">
                  Volume
                </th>
                <th scope="col" className="py-1 pl-4 text-right font-semibold">
                  Before
                </th>
                <th scope="col" className="py-1 pl-4 text-right font-semibold">
                  Now
                </th>
              </tr>
            </thead>
            <tbody>
              {sheet.partitions.map((p) => (
                <tr key={p.key} className="border-b border-line">
                  <th scope="row" className="py-1 text-left font-normal">
                    {p.title}
                  </th>
                  <td className="py-1 pl-4 text-right font-mono whitespace-nowrap">{formatSize(p.before)}</td>
                  <td className="py-1 pl-4 text-right font-mono whitespace-nowrap">{formatSize(p.after)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
        <section>
          <h3 className="mb-1.5 font-bold">First start, {start.time}</h3>
          <ul className="space-y-1 text-[13px]">
            {[
              ...start.links.map((l) => [l.title, l.found, l.state === 'passed'] as const),
              ...start.checks.map((c) => [c.title, c.found, c.passed] as const),
            ].map(([title, found, passed]) => (
              <li key={title} className="flex gap-2">
                {passed ? (
                  <CircleCheck size={15} className="mt-0.5 shrink-0 text-weed" aria-label="Passed" />
                ) : (
                  <CircleDashed size={15} className="mt-0.5 shrink-0 text-ochre" aria-label="Not followed" />
                )}
                <span>
                  {title}: <span className="text-ink-soft">{found}</span>
                </span>
              </li>
            ))}
          </ul>
        </section>
      </div>
      <section className="mt-5 border-t border-line pt-3">
        <h3 className="mb-1.5 font-bold">What you should know</h3>
        <ul className="list-disc space-y-1 pl-5">
          {sheetAdvice(sheet).map((sentence) => (
            <li key={sentence}>{sentence}</li>
          ))}
        </ul>
      </section>
    </article>
  )
}
