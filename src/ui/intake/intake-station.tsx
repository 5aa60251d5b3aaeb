'use client'

import { formatSize, GIB, groupDigits } from '@/core/bytes/size'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Callout } from '@/ui/shared/callout'
import { Facts } from '@/ui/shared/facts'
import { type LogLine, Logbook } from '@/ui/shared/logbook'
import { Plate, type PlateDrive } from '@/ui/shared/plate'

interface IntakeView {
  readonly confirmed: boolean
  readonly reason: string
  readonly customer: string
  readonly promised: string
  readonly backup: { readonly where: string; readonly date: string } | null
  readonly computer: {
    readonly name: string
    readonly model: string
    readonly firmware: string
    readonly memoryBytes: number
    readonly bootMenuKey: string
    readonly running: string
    readonly bootEntries: readonly { id: string; name: string; path: string }[]
    readonly slots: readonly { id: string; takes: string; holds: string | null }[]
  }
  readonly source: PlateDrive
  readonly target: PlateDrive
  readonly lines: readonly LogLine[]
}

/** What is to be moved, and why. */
export function IntakeStation({ moveId, view }: { moveId: string; view: IntakeView }) {
  const { act, go, busy } = useAct()
  const { confirmIntake, readDrives } = useActions()
  const { computer, backup, source, target } = view
  const next = `/moves/${moveId}/survey`
  const takeIn = () =>
    act(async () => {
      const taken = await confirmIntake(moveId)
      return taken.ok ? readDrives(moveId) : taken
    }, next)
  return (
    <Stage
      heading={`${view.reason === 'more room' ? 'More room' : view.reason} for the ${computer.name}`}
      reason={`${view.customer} wants the system of the ${computer.name} on the ${target.name}, promised for ${view.promised}.`}
      aside={
        <>
          <AsideBlock title="At stake">
            {backup ? (
              <Callout tone="good">
                There is a backup of {backup.date}, {backup.where}.
              </Callout>
            ) : (
              <Callout tone="bad">There is no backup. The old drive is the customer’s only copy.</Callout>
            )}
          </AsideBlock>
          <AsideBlock title="Logbook">
            <Logbook lines={view.lines} />
          </AsideBlock>
        </>
      }
      next={
        view.confirmed ? (
          <NextAction label="Go to Survey" onAct={() => go(next)} disabled={busy} />
        ) : (
          <NextAction
            label="Take it in, read the drives"
            onAct={() => void takeIn()}
            disabled={busy}
            hint="Both drives are read. Nothing is written."
          />
        )
      }
    >
      <div className="grid gap-4 xl:grid-cols-2">
        <section className="panel p-[18px]">
          <h2 className="mb-3 text-[17px] font-bold">
            {computer.model} <span className="font-normal text-ink-soft">the {computer.name}</span>
          </h2>
          <Facts
            facts={[
              { name: 'Firmware', value: computer.firmware },
              { name: 'Memory', value: formatSize(computer.memoryBytes), mono: true },
              {
                name: 'Boot menu',
                value: <kbd className="rounded border border-line-strong px-1.5">{computer.bootMenuKey}</kbd>,
              },
              { name: 'Now', value: computer.running },
              ...computer.slots.map((slot) => ({
                name: slot.id,
                value: slot.holds ?? <span className="text-ink-soft">free, takes {slot.takes}</span>,
              })),
            ]}
          />
          <h3 className="caption mt-5 mb-2">Boot entries of the firmware</h3>
          {computer.bootEntries.map((entry) => (
            <p key={entry.id} className="text-[13.5px]">
              <span className="font-mono">{entry.id}</span> {entry.name}
              <span className="block font-mono text-[12.5px] break-all text-ink-soft">{entry.path}</span>
            </p>
          ))}
        </section>
        <section className="panel space-y-4 p-[18px]">
          <h2 className="text-[17px] font-bold">From the old drive to the new one</h2>
          <Plate drive={source} role="Source, only ever read" capacity />
          <Plate drive={target} role="Target, will be erased" tone="erases" capacity />
          <p className="text-[13px] text-ink-soft">
            A maker’s GB is {groupDigits(1e9)} bytes, a system’s GiB is {groupDigits(GIB)}: the same drive, two numbers.
          </p>
        </section>
      </div>
    </Stage>
  )
}
