'use client'

import { useState } from 'react'
import { ArrowDown, ArrowUp, Trash2 } from 'lucide-react'
import type { BootChoice } from '@/core/boot/menu'
import { type Firmware, SIGNERS } from '@/core/boot/types'
import type { Computer } from '@/core/things/computer'
import { listed, upperFirst } from '@/core/words'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button, IconButton } from '@/ui/shared/button'
import { TextField, TickField } from '@/ui/shared/field'
import { MachineSettings, PackMachine } from './machine-settings'

interface ComputerPage {
  readonly computer: Computer
  readonly drives: readonly {
    readonly slot: string
    readonly id: string
    readonly name: string
    readonly serial: string
    /** The image that it is, where it is one. */
    readonly image: string | null
  }[]
  readonly menu: readonly BootChoice[]
  /** Drives in it that another bench lends and that cannot be read now. */
  readonly unread: readonly string[]
  readonly copying: boolean
  /** Of a virtual machine: what it runs on. */
  readonly host: string | null
}

const SLEEP = [5, 10, 15, 30, 60, 120] as const
const STATES = {
  off: 'is switched off',
  system: 'runs its own system',
  stick: 'runs from the rescue stick',
}

/** A computer of the bench as one sits before it: its switches, its boot menu, its firmware's settings. */
export function ComputerStation({ computer, drives, menu, unread, copying, host }: ComputerPage) {
  const { act, go, busy } = useAct()
  const { switchComputer } = useActions()
  const { name, firmware, running, mains, virtual } = computer
  const say = (input: unknown) => act(() => switchComputer(computer.id, input))
  const off = running === 'off'
  return (
    <Stage
      heading={`The ${name} ${STATES[running]}`}
      reason={`${virtual ? `${computer.model} on the ${host ?? 'host'}` : computer.model}, ${firmware.mode.toUpperCase()}. ${
        off
          ? `At power-on ${firmware.bootMenuKey} opens the boot menu, and the settings can be changed.`
          : 'Its firmware’s settings are opened at power-on, so they can be changed when it is off.'
      }`}
      tools={
        off ? (
          <Button disabled={busy} onClick={() => void say({ do: 'start' })}>
            Switch it on
          </Button>
        ) : (
          <Button disabled={busy || copying} onClick={() => void say({ do: 'shut-down' })}>
            Shut it down
          </Button>
        )
      }
      aside={
        <>
          <AsideBlock title={virtual ? 'Its disks' : 'In its slots'}>
            {drives.length === 0 && <p className="text-ink-soft">Nothing.</p>}
            <ul className="space-y-2">
              {drives.map((d) => (
                <li key={d.id}>
                  <span className="font-semibold">{d.name}</span>
                  <span className="block font-mono text-[12.5px] text-ink-soft">
                    {d.slot}, s/n {d.serial}
                  </span>
                  {virtual && d.image && <span className="block text-[12.5px] text-ink-soft">{d.image}</span>}
                </li>
              ))}
            </ul>
          </AsideBlock>
          {virtual && (
            <AsideBlock title="As a package">
              <PackMachine computer={computer} />
            </AsideBlock>
          )}
          {!virtual && (
            <AsideBlock title="Mains">
              <p className="mb-2">{mains ? 'Plugged in.' : 'Not plugged in.'}</p>
              <Button small disabled={busy || (mains && copying)} onClick={() => void say({ do: 'mains', on: !mains })}>
                {mains ? 'Pull the cable' : 'Plug it in'}
              </Button>
            </AsideBlock>
          )}
        </>
      }
      next={<NextAction label="Go to the bench" onAct={() => go('/bench')} disabled={busy} />}
    >
      {virtual ? (
        <MachineSettings
          key={JSON.stringify([computer.memoryBytes, virtual, computer.networkCards])}
          computer={computer}
          busy={busy}
          say={say}
        />
      ) : (
        <Running computer={computer} busy={busy} say={say} />
      )}
      <Menu menu={menu} unread={unread} off={off} busy={busy} onStart={(choice) => void say({ do: 'start', choice })} />
      <Settings key={JSON.stringify(firmware)} computer={computer} locked={!off || busy} say={say} />
    </Stage>
  )
}

interface RunningProps {
  readonly computer: Computer
  readonly busy: boolean
  readonly say: (input: unknown) => Promise<boolean>
}

/** What runs in its system and can be switched there. */
function Running({ computer, busy, say }: RunningProps) {
  const { programs, online, sleepMinutes, running } = computer
  const locked = busy || running !== 'system'
  return (
    <section className="mb-5" data-testid="running">
      <h2 className="mb-2 font-bold">{running === 'system' ? 'Running in its system' : 'When its system runs'}</h2>
      <div className="panel grid gap-x-8 gap-y-1 px-[18px] py-3 sm:grid-cols-2">
        {programs.map((p) => (
          <TickField
            key={p.id}
            label={p.name}
            checked={p.running}
            disabled={locked}
            onChange={(event) => void say({ do: 'program', of: p.id, on: event.target.checked })}
          />
        ))}
        <TickField
          label="Network"
          checked={online}
          disabled={locked}
          onChange={(event) => void say({ do: 'network', on: event.target.checked })}
        />
        <label className="flex items-center gap-2 py-1">
          Sleeps
          <select
            value={sleepMinutes ?? ''}
            disabled={locked}
            onChange={(event) =>
              void say({ do: 'sleep', minutes: event.target.value === '' ? null : Number(event.target.value) })
            }
            className="rounded-md border border-line-strong bg-paper px-2 py-0.5 disabled:opacity-60"
          >
            <option value="">never</option>
            {[...new Set([...SLEEP, ...(sleepMinutes ? [sleepMinutes] : [])])]
              .sort((a, b) => a - b)
              .map((m) => (
                <option key={m} value={m}>
                  after {m} minutes
                </option>
              ))}
          </select>
        </label>
      </div>
    </section>
  )
}

interface MenuProps {
  readonly menu: readonly BootChoice[]
  readonly unread: readonly string[]
  readonly off: boolean
  readonly busy: boolean
  readonly onStart: (choice: string) => void
}

function Menu({ menu, unread, off, busy, onStart }: MenuProps) {
  return (
    <section className="mb-5" data-testid="menu">
      <h2 className="mb-2 font-bold">Boot menu</h2>
      {unread.length > 0 && (
        <p className="panel mb-2 px-[18px] py-3">
          What would start from the {listed(unread)} is not known: another bench lends it, and it cannot be read now.
        </p>
      )}
      {menu.length + unread.length === 0 && (
        <p className="panel px-[18px] py-3">There is nothing in its slots to start from.</p>
      )}
      {menu.length > 0 && (
        <ul className="panel divide-y divide-line">
          {menu.map((line) => (
            <li key={line.id} className="flex flex-wrap items-center gap-x-4 gap-y-1 px-[18px] py-2.5">
              <span className="min-w-0 flex-1 basis-60">
                <span className={line.here ? 'font-semibold' : 'text-ink-soft'}>{line.title}</span>
                <span className="block font-mono text-[12.5px] break-words text-ink-soft">{line.detail}</span>
              </span>
              <Button small disabled={busy || !off} onClick={() => onStart(line.id)}>
                Start this once
                <span className="sr-only">: {line.title}</span>
              </Button>
            </li>
          ))}
        </ul>
      )}
    </section>
  )
}

type Draft = Pick<Firmware, 'secureBoot' | 'trustedSigners' | 'bootEntries' | 'bootOrder' | 'driveOrder'>

/** What the firmware keeps, changed here and then kept as one. */
function Settings({
  computer,
  locked,
  say,
}: {
  computer: Computer
  locked: boolean
  say: (input: unknown) => Promise<boolean>
}) {
  const { firmware, slots } = computer
  const { secureBoot, trustedSigners, bootEntries, bootOrder, driveOrder } = firmware
  const kept: Draft = { secureBoot, trustedSigners, bootEntries, bootOrder, driveOrder }
  const [draft, setDraft] = useState<Draft>(kept)
  const [signer, setSigner] = useState('')
  const set = (changes: Partial<Draft>) => setDraft((now) => ({ ...now, ...changes }))
  const changed = JSON.stringify(draft) !== JSON.stringify(kept)
  const uefi = firmware.mode === 'uefi'
  const ordered = [
    ...draft.bootOrder.flatMap((id) => draft.bootEntries.filter((e) => e.id === id)),
    ...draft.bootEntries.filter((e) => !draft.bootOrder.includes(e.id)),
  ]
  const slotOrder = [...draft.driveOrder, ...slots.map((s) => s.id).filter((s) => !draft.driveOrder.includes(s))]
  const signers = [...new Set([...SIGNERS, ...trustedSigners, ...draft.trustedSigners])]
  return (
    <section data-testid="settings">
      <h2 className="mb-2 font-bold">Firmware settings</h2>
      <div className="panel space-y-4 px-[18px] py-3">
        {uefi && (
          <div>
            <TickField
              label="Secure Boot"
              checked={draft.secureBoot}
              disabled={locked}
              onChange={(event) => set({ secureBoot: event.target.checked })}
            />
            <p className="mt-2 mb-1 text-[13px] text-ink-soft">Whose signatures it trusts</p>
            {signers.map((s) => (
              <TickField
                key={s}
                label={s}
                checked={draft.trustedSigners.includes(s)}
                disabled={locked}
                onChange={(event) =>
                  set({
                    trustedSigners: event.target.checked
                      ? [...draft.trustedSigners, s]
                      : draft.trustedSigners.filter((t) => t !== s),
                  })
                }
              />
            ))}
            <div className="mt-1 flex max-w-sm items-end gap-2">
              <div className="flex-1">
                <TextField
                  label="Another signer"
                  value={signer}
                  maxLength={80}
                  disabled={locked}
                  onChange={(event) => setSigner(event.target.value)}
                />
              </div>
              <Button
                small
                disabled={locked || signer.trim() === '' || signers.includes(signer.trim())}
                onClick={() => {
                  set({ trustedSigners: [...draft.trustedSigners, signer.trim()] })
                  setSigner('')
                }}
              >
                Trust it
              </Button>
            </div>
          </div>
        )}
        {uefi && (
          <Ordered
            title="Boot entries, the first that works is used"
            empty="There are none; firmware looks for the fallback path on each drive."
            lines={ordered.map((e) => ({
              id: e.id,
              title: `${e.id} ${e.name}`,
              detail: `${e.path}, partition ${e.partitionGuid.slice(0, 8)}`,
              out: !draft.bootOrder.includes(e.id),
            }))}
            locked={locked}
            onOrder={(ids) => set({ bootOrder: ids })}
            onRemove={(id) =>
              set({
                bootEntries: draft.bootEntries.filter((e) => e.id !== id),
                bootOrder: draft.bootOrder.filter((o) => o !== id),
              })
            }
          />
        )}
        <Ordered
          title={
            uefi
              ? 'Slots, in the order in which the fallback path is looked for'
              : 'Slots, it starts from the first drive'
          }
          empty=""
          lines={slotOrder.map((s) => ({ id: s, title: s, detail: '', out: false }))}
          locked={locked}
          onOrder={(ids) => set({ driveOrder: ids })}
        />
        <p className="flex flex-wrap items-center gap-3">
          <Button disabled={locked || !changed} onClick={() => void say({ do: 'firmware', settings: draft })}>
            Keep these settings
          </Button>
          {changed && (
            <Button disabled={locked} onClick={() => setDraft(kept)}>
              As they were
            </Button>
          )}
        </p>
      </div>
    </section>
  )
}

interface OrderedProps {
  readonly title: string
  readonly empty: string
  readonly lines: readonly {
    readonly id: string
    readonly title: string
    readonly detail: string
    readonly out: boolean
  }[]
  readonly locked: boolean
  readonly onOrder: (ids: string[]) => void
  readonly onRemove?: (id: string) => void
}

/** Lines that can be moved up and down. */
function Ordered({ title, empty, lines, locked, onOrder, onRemove }: OrderedProps) {
  const swapped = (i: number, j: number) => {
    const ids = lines.map((l) => l.id)
    ;[ids[i], ids[j]] = [ids[j], ids[i]]
    onOrder(ids)
  }
  return (
    <div>
      <p className="mb-1 text-[13px] text-ink-soft">{title}</p>
      {lines.length === 0 && <p>{empty}</p>}
      <ol className="divide-y divide-line">
        {lines.map((line, i) => (
          <li key={line.id} className="flex items-center gap-3 py-1.5">
            <span className="w-5 text-right font-mono text-ink-soft">{i + 1}</span>
            <span className="min-w-0 flex-1">
              <span className={line.out ? 'text-ink-soft' : 'font-semibold'}>{upperFirst(line.title)}</span>
              {line.out && <span className="text-ink-soft">, not in the order</span>}
              {line.detail && (
                <span className="block font-mono text-[12.5px] break-words text-ink-soft">{line.detail}</span>
              )}
            </span>
            <IconButton label={`${line.title} up`} disabled={locked || i === 0} onClick={() => swapped(i, i - 1)}>
              <ArrowUp size={15} aria-hidden />
            </IconButton>
            <IconButton
              label={`${line.title} down`}
              disabled={locked || i === lines.length - 1}
              onClick={() => swapped(i, i + 1)}
            >
              <ArrowDown size={15} aria-hidden />
            </IconButton>
            {onRemove && (
              <IconButton label={`Remove ${line.title}`} disabled={locked} onClick={() => onRemove(line.id)}>
                <Trash2 size={15} aria-hidden />
              </IconButton>
            )}
          </li>
        ))}
      </ol>
    </div>
  )
}
