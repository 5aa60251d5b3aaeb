'use client'

import { useState } from 'react'
import { clsx } from 'clsx'
import { DropdownMenu } from 'radix-ui'
import { post, useAct } from '@/ui/frame/act'
import { formatCapacity, formatSize } from '@/core/bytes/size'
import { type Health, healthVerdict } from '@/core/health/health'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Facts } from '@/ui/shared/facts'
import { HealthBlock, HealthWord } from '@/ui/shared/health'

interface DriveView {
  readonly id: string
  readonly name: string
  readonly serial: string
  readonly detail: string
  readonly hasBytes: boolean
  readonly image: string | null
  readonly health?: Health
  readonly sizeBytes: number
  readonly logicalSectorSize: number
  readonly physicalSectorSize: number
}

interface Quay {
  readonly id: string
  readonly name: string
  readonly detail: string
  readonly berths: readonly { readonly name: string; readonly takes: string; readonly drive: DriveView | null }[]
}

interface Way {
  readonly label: string
  readonly place: unknown
  readonly why: string | null
}

export interface BenchProps {
  readonly computers: readonly Quay[]
  readonly accessories: readonly Quay[]
  readonly table: readonly DriveView[]
  readonly shelf: readonly DriveView[]
  readonly ways: Readonly<Record<string, readonly Way[]>>
  /** Moves that a drive is part of. */
  readonly uses: Readonly<Record<string, readonly string[]>>
}

/** Every computer, dock and drive, and where each drive sits. */
export function Bench({ computers, accessories, table, shelf, ways, uses }: BenchProps) {
  const { go, busy } = useAct()
  const all = [...computers, ...accessories].flatMap((quay) => quay.berths.flatMap((b) => (b.drive ? [b.drive] : [])))
  const drives = [...all, ...table, ...shelf]
  const [picked, setPicked] = useState<string>()
  const drive = drives.find((d) => d.id === picked)
  const plate = (d: DriveView) => (
    <DrivePlate drive={d} ways={ways[d.id] ?? []} picked={picked === d.id} onPick={() => setPicked(d.id)} />
  )
  return (
    <Stage
      {...benchFinding(drives, all.length)}
      aside={
        drive ? (
          <>
            <AsideBlock title="Selected drive">
              <p className="text-[19px] font-bold">{drive.name}</p>
              <p className="mb-2 font-mono text-ink-soft">s/n {drive.serial}</p>
              <Facts
                facts={[
                  { name: 'Sold as', value: formatCapacity(drive.sizeBytes), mono: true },
                  { name: 'Holds', value: formatSize(drive.sizeBytes), mono: true },
                  {
                    name: 'Sectors',
                    // An image does not tell how long the medium's own are.
                    value: drive.image
                      ? `${drive.logicalSectorSize}`
                      : `${drive.logicalSectorSize} in ${drive.physicalSectorSize}`,
                    mono: true,
                  },
                  ...(drive.image ? [{ name: 'Image', value: drive.image }] : []),
                ]}
              />
              {(uses[drive.id] ?? []).length > 0 && (
                <p className="mt-2 text-[13px] text-ink-soft">Part of: {uses[drive.id].join('; ')}.</p>
              )}
            </AsideBlock>
            <HealthBlock health={drive.health} />
            <AsideBlock title="Where it can go">
              <ul className="space-y-1.5">
                {(ways[drive.id] ?? []).map((way) => (
                  <li key={way.label}>
                    <span className={way.why ? 'text-ink-soft' : 'font-semibold'}>{way.label}</span>
                    <span className="block text-[13px] text-ink-soft">{way.why ?? 'fits'}</span>
                  </li>
                ))}
              </ul>
            </AsideBlock>
          </>
        ) : (
          <p className="text-ink-soft">Select a drive to see its health, where it can go, and why not elsewhere.</p>
        )
      }
      next={
        drive?.hasBytes && (
          <NextAction label="Look inside" onAct={() => go(`/drives/${encodeURIComponent(drive.id)}`)} disabled={busy} />
        )
      }
    >
      <div className="grid gap-4 sm:grid-cols-2 xl:grid-cols-3">
        {[...accessories, ...computers].map((quay) => (
          <section key={quay.id} className="rounded-lg border border-line-strong bg-sunk p-3.5">
            <h2 className="text-[15px] font-bold first-letter:uppercase">{quay.name}</h2>
            <p className="mb-2 text-[13px] text-ink-soft">{quay.detail}</p>
            <ul className="space-y-2">
              {quay.berths.map((berth) => (
                <li key={berth.name}>
                  <p className="font-mono text-[12.5px] text-ink-soft">{berth.name}</p>
                  {berth.drive ? (
                    plate(berth.drive)
                  ) : (
                    <p className="rounded border border-dashed border-line-strong px-3 py-3 text-[13px] text-ink-soft">
                      free: {berth.takes}
                    </p>
                  )}
                </li>
              ))}
            </ul>
          </section>
        ))}
        {(
          [
            ['Table', 'out of everything', table],
            ['Shelf', 'old drives, kept until their day', shelf],
          ] as const
        ).map(([name, detail, list]) => (
          <section key={name} className="rounded-lg border border-line-strong bg-sunk p-3.5">
            <h2 className="text-[15px] font-bold">{name}</h2>
            <p className="mb-2 text-[13px] text-ink-soft">{detail}</p>
            <ul className="space-y-2">
              {list.map((d) => (
                <li key={d.id}>{plate(d)}</li>
              ))}
              {list.length === 0 && <li className="text-[13px] text-ink-soft">Nothing.</li>}
            </ul>
          </section>
        ))}
      </div>
    </Stage>
  )
}

/** The drives that will not wait, by name; else how many there are. */
function benchFinding(drives: readonly DriveView[], connected: number): { heading: string; reason: string } {
  const failing = drives.filter((d) => healthVerdict(d.health).state === 'failing')
  const moving = 'Drives can be put where they fit; a computer’s drives stay put while it has mains power.'
  if (failing.length === 0) {
    return { heading: `${drives.length} drives, ${connected} of them connected`, reason: moving }
  }
  const names = failing.map((d) => `the ${d.name}: ${healthVerdict(d.health).reason}`).join(' ')
  return {
    heading: failing.length === 1 ? 'One drive is failing' : `${failing.length} drives are failing`,
    reason: `${names.replace(/^t/, 'T')} ${moving}`,
  }
}

function DrivePlate({
  drive,
  ways,
  picked,
  onPick,
}: {
  drive: DriveView
  ways: readonly Way[]
  picked: boolean
  onPick: () => void
}) {
  const { act, busy } = useAct()
  const put = (place: unknown) => void act(() => post(`/api/bench/drives/${drive.id}/place`, { place }))
  return (
    <div
      data-testid={`drive-${drive.id}`}
      className={clsx(
        'flex items-start justify-between gap-2 rounded-md border-l-[8px] bg-sheet py-2 pr-2 pl-3',
        picked ? 'border-l-magenta outline-2 outline-magenta' : 'border-l-sea-3 outline-1 outline-line-strong',
      )}
    >
      <button type="button" onClick={onPick} className="min-w-0 text-left" aria-pressed={picked}>
        <span className="block font-bold">{drive.name}</span>
        <span className="block font-mono text-[12.5px] text-ink-soft">{drive.serial}</span>
        <span className="block text-[13px] text-ink-soft">
          {drive.detail}, {formatCapacity(drive.sizeBytes)} · <HealthWord health={drive.health} />
        </span>
      </button>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger asChild>
          <Button small disabled={busy} aria-label={`Move the ${drive.name}`}>
            Move
          </Button>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="end"
            sideOffset={4}
            className="panel z-50 max-h-80 w-72 overflow-y-auto p-1.5 shadow-lg"
          >
            {ways.map((way) => (
              <DropdownMenu.Item
                key={way.label}
                disabled={way.why !== null}
                onSelect={() => put(way.place)}
                className="cursor-pointer rounded px-2 py-1.5 data-[disabled]:cursor-default data-[disabled]:text-ink-soft data-[highlighted]:bg-sunk"
              >
                <span className="first-letter:uppercase">{way.label}</span>
                {way.why && <span className="block text-[12.5px]">{way.why}</span>}
              </DropdownMenu.Item>
            ))}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
    </div>
  )
}
