'use client'

import type { ReactNode } from 'react'
import { CircleCheck } from 'lucide-react'
import type { TraceLink } from '@/core/boot/types'
import { formatDuration, formatRate, formatSize } from '@/core/bytes/size'
import { type CopySummary, type Lost, lostWords } from '@/core/copy/progress'
import { shortDigest } from '@/core/digest'
import type { ProofCheck } from '@/core/proof/compare'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { dayInWords } from '@/ui/shared/days'
import { DepthProfile } from '@/ui/shared/depth-profile'
import { Plate, type PlateDrive } from '@/ui/shared/plate'

interface HandoverView {
  /** What stood in the way of the copy and was gone past, with the reason. */
  readonly repairs: readonly { readonly title: string; readonly changes: readonly string[] }[]
  readonly gonePast: readonly { readonly title: string; readonly reason: string }[]
  readonly handedOver: { readonly on: string; readonly at: string; readonly shelfUntil: string } | null
  readonly brief: { readonly name: string; readonly customer: string; readonly reason: string }
  readonly computer: { readonly name: string; readonly model: string }
  readonly shop: string
  readonly day: string
  readonly started: string
  readonly ended: string
  readonly plates: readonly { readonly source: PlateDrive; readonly target: PlateDrive }[]
  readonly legs: readonly { readonly number: number; readonly title: string; readonly summary: CopySummary }[]
  readonly partitions: readonly { key: string; title: string; before: number; after: number; usedBytes: number }[]
  readonly trial: {
    readonly time: string
    readonly links: readonly TraceLink[]
    readonly checks: readonly ProofCheck[]
  }
  readonly profile: readonly number[]
  readonly sourceBytes: number
}

/** The sheet: what was done, with the figures. */
export function HandoverStation({ moveId, view }: { moveId: string; view: HandoverView }) {
  const { act, busy } = useAct()
  const { handOver } = useActions()
  const { handedOver, brief } = view
  return (
    <Stage
      heading={handedOver ? `Handed over on ${handedOver.on}` : 'The sheet is ready to go with the computer'}
      reason={
        handedOver
          ? `The old drive stays on the shelf until ${dayInWords(handedOver.shelfUntil)}; until then it is the way back.`
          : `${brief.customer} gets the ${view.computer.name} back with this sheet. The old drive goes on the shelf for 14 days.`
      }
      tools={<Button onClick={() => window.print()}>Print</Button>}
      aside={
        <>
          <AsideBlock title="Goes back">
            <div className="space-y-3">
              {view.plates.map((p) => (
                <Plate key={p.target.serial} drive={p.target} role="New drive" />
              ))}
            </div>
          </AsideBlock>
          <AsideBlock title="Stays here">
            <div className="space-y-3">
              {view.plates.map((p) => (
                <Plate key={p.source.serial} drive={p.source} role="Old drive, the way back" />
              ))}
            </div>
          </AsideBlock>
          {handedOver && (
            <Callout tone="good">
              Closed at {handedOver.at}. The label for the old drive says: keep until{' '}
              {dayInWords(handedOver.shelfUntil)}.
            </Callout>
          )}
        </>
      }
      next={
        handedOver ? (
          <NextAction label="Print the sheet" onAct={() => window.print()} />
        ) : (
          <NextAction label="Hand it over" onAct={() => void act(() => handOver(moveId))} disabled={busy} />
        )
      }
    >
      <Sheet view={view} />
    </Stage>
  )
}

function Sheet({ view }: { view: HandoverView }) {
  const { legs, trial, brief, computer, plates } = view
  const lost = legs.flatMap((leg) => leg.summary.lost)
  const rows: [string, ReactNode][] = [
    ['Customer', brief.customer],
    ['Computer', `${computer.model}, the ${computer.name}`],
    ...plates.flatMap(({ source, target }): [string, ReactNode][] => [
      ['From', `${source.name}, s/n ${source.serial}`],
      ['To', `${target.name}, s/n ${target.serial}`],
    ]),
    ['Copied', `${formatSize(sum(legs, (s) => s.copiedBytes))} on ${view.day}, ${view.started} to ${view.ended}`],
    ...legs.map(({ number, title, summary }): [string, ReactNode] => [
      legs.length > 1 ? `Leg ${number}` : 'Took',
      `${legs.length > 1 ? `${title}: ` : ''}${formatDuration(summary.copySeconds)} copying at ${formatRate(summary.copiedBytes / summary.copySeconds)}, ${summary.checkedBytes > 0 ? `${formatDuration(summary.checkSeconds)} reading back` : 'not read back'}`,
    ]),
    ['Lost', lost.length === 0 ? 'nothing' : `${lostWords(lost)}: ${lostFiles(lost)}`],
    ['Checked', legs.map((l) => checkedWords(l.summary)).join('; ')],
    ...leftOutRow(legs),
    ...legs.flatMap(({ summary }) =>
      summary.further
        .filter((f) => f.why === null)
        .map((f): [string, ReactNode] => ['Written in the same reading', f.name]),
    ),
    ...view.repairs.map((r): [string, ReactNode] => ['Repaired', `${r.title}. ${r.changes.join(' ')}`]),
    ...view.gonePast.map((item): [string, ReactNode] => ['Gone past', `${item.title} ${item.reason}`]),
  ]
  return (
    <article className="panel p-6 print:border-0 print:p-0" data-testid="sheet">
      <header className="mb-4 flex flex-wrap items-baseline justify-between gap-x-4 border-b border-line-strong pb-3">
        <h2 className="text-[20px] font-[720] [font-stretch:112%]">
          {brief.name}: moved for {brief.reason}
        </h2>
        <p className="text-ink-soft">
          {view.shop} · {view.day}
        </p>
      </header>
      <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-6 gap-y-1.5">
        {rows.map(([name, value], i) => (
          <div key={i} className="contents">
            <dt className="text-ink-soft">{name}</dt>
            <dd className="font-mono text-[13px]">{value}</dd>
          </div>
        ))}
      </dl>
      <h3 className="mt-5 mb-1 font-bold">What was where on the old drive</h3>
      <DepthProfile
        profile={view.profile}
        sizeBytes={view.sourceBytes}
        label={`Use of the ${plates[0].source.name} when it was copied`}
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
                <th scope="col" className="py-1 text-right font-semibold">
                  Before
                </th>
                <th scope="col" className="py-1 text-right font-semibold">
                  Now
                </th>
              </tr>
            </thead>
            <tbody>
              {view.partitions.map((p) => (
                <tr key={p.key} className="border-b border-line">
                  <th scope="row" className="py-1 text-left font-normal">
                    {p.title}
                  </th>
                  <td className="py-1 text-right font-mono">{formatSize(p.before)}</td>
                  <td className="py-1 text-right font-mono">{formatSize(p.after)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
        <section>
          <h3 className="mb-1.5 font-bold">First start, {trial.time}</h3>
          <ul className="space-y-1 text-[13px]">
            {[
              ...trial.links.map((l) => [l.title, l.found] as const),
              ...trial.checks.map((c) => [c.title, c.found] as const),
            ].map(([title, found]) => (
              <li key={title} className="flex gap-2">
                <CircleCheck size={15} className="mt-0.5 shrink-0 text-weed" aria-label="Passed" />
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
          <li>A first disk check or a question about an improper shutdown is normal once.</li>
          <li>
            The old drive is unchanged. Do not put it into the same computer together with the new one: both carry one
            identity.
          </li>
          {view.handedOver && (
            <li>It is kept here until {dayInWords(view.handedOver.shelfUntil)} and can be put back until then.</li>
          )}
        </ul>
      </section>
    </article>
  )
}

function checkedWords({ checkedBytes, digest, digestName }: CopySummary): string {
  if (checkedBytes === 0) return 'nothing was read back, as chosen'
  return `all ${formatSize(checkedBytes)} read back equal, ${digestName} ${shortDigest(digest)}`
}

/** Page, hibernation and swap files whose content stayed behind. */
function leftOutRow(legs: HandoverView['legs']): [string, ReactNode][] {
  const paths = legs.flatMap((l) => l.summary.partitions.flatMap((p) => p.leftOut.map((f) => f.path.slice(1))))
  return paths.length === 0 ? [] : [['Left out', [...new Set(paths)].join(', ')]]
}

function lostFiles(lost: readonly Lost[]): string {
  const files = [...new Set(lost.flatMap((run) => run.files))]
  const shown = files.slice(0, 12).join(', ')
  return files.length > 12
    ? `${shown} and ${files.length - 12} more`
    : shown || 'the places belong to no file that can be told'
}

function sum(legs: HandoverView['legs'], of: (summary: CopySummary) => number): number {
  return legs.reduce((total, leg) => total + of(leg.summary), 0)
}
