'use client'

import { useState } from 'react'
import { CircleCheck, CircleDashed, CircleDot } from 'lucide-react'
import type { FirstStartStep } from '@/core/vm/first-start'
import { Button } from '@/ui/shared/button'
import { TextField } from '@/ui/shared/field'

export interface MachineView {
  readonly memoryMib: number
  readonly leastMemoryMib: number
  readonly processors: number
  readonly vlan: number | null
}

interface FirstStartProps {
  readonly steps: readonly FirstStartStep[]
  readonly machine: MachineView
  readonly busy: boolean
  /** A step that the server carries out by itself. */
  readonly onStep: (input: { step: string } & Record<string, unknown>) => void
  readonly onRepair: (name: string) => void
}

/** The steps of a virtual machine's first start in their order, each with what there is to see of it. */
export function FirstStart({ steps, machine, busy, onStep, onRepair }: FirstStartProps) {
  return (
    <section className="mb-4" data-testid="first-start">
      <h2 className="mb-2 font-bold">The first start, in order</h2>
      <ol className="panel divide-y divide-line">
        {steps.map((step) => (
          <li key={step.id} className="flex flex-wrap items-start gap-x-3 gap-y-2 px-[18px] py-2.5" data-step={step.id}>
            <Mark state={step.state} />
            <span className="min-w-0 flex-1 basis-64">
              <span className={step.state === 'waits' ? 'text-ink-soft' : 'font-semibold'}>{step.title}</span>
              <span className="block text-[13px] break-words text-ink-soft">
                {step.state === 'waits' ? `Comes ${step.waits}.` : step.found}
              </span>
            </span>
            {step.state === 'open' && (
              <StepAction step={step} machine={machine} busy={busy} onStep={onStep} onRepair={onRepair} />
            )}
          </li>
        ))}
      </ol>
    </section>
  )
}

function Mark({ state }: { state: FirstStartStep['state'] }) {
  if (state === 'done') return <CircleCheck size={18} className="mt-0.5 shrink-0 text-weed" aria-label="Done" />
  if (state === 'open') return <CircleDot size={18} className="mt-0.5 shrink-0 text-magenta" aria-label="Next" />
  return <CircleDashed size={18} className="mt-0.5 shrink-0 text-ink-soft" aria-label="Later" />
}

function StepAction({
  step,
  machine,
  busy,
  onStep,
  onRepair,
}: Omit<FirstStartProps, 'steps'> & { readonly step: FirstStartStep }) {
  switch (step.id) {
    case 'devices':
      return (
        <Button small disabled={busy} onClick={() => onRepair('old-devices')}>
          Remove them
        </Button>
      )
    case 'power-off':
      return (
        <Button small disabled={busy} onClick={() => onStep({ step: 'power-off' })}>
          Power it off
        </Button>
      )
    case 'address':
      return (
        <Button small disabled={busy} onClick={() => onRepair('card-address')}>
          Set the address
        </Button>
      )
    case 'network':
      return <Connect vlan={machine.vlan} busy={busy} onConnect={(vlan) => onStep({ step: 'network', vlan })} />
    case 'size':
      return <Size machine={machine} busy={busy} onSize={(size) => onStep({ step: 'size', ...size })} />
    default:
      return null
  }
}

function Connect({
  vlan,
  busy,
  onConnect,
}: {
  vlan: number | null
  busy: boolean
  onConnect: (vlan: number | null) => void
}) {
  const [typed, setTyped] = useState(vlan === null ? '' : String(vlan))
  const number = typed === '' ? null : Number(typed)
  const wrong = number !== null && (!Number.isInteger(number) || number < 1 || number > 4094)
  return (
    <span className="flex items-end gap-2">
      <span className="w-24">
        <TextField
          label="VLAN"
          inputMode="numeric"
          placeholder="none"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
      </span>
      <Button small disabled={busy || wrong} onClick={() => onConnect(number)}>
        Connect
      </Button>
    </span>
  )
}

function Size({
  machine,
  busy,
  onSize,
}: {
  machine: MachineView
  busy: boolean
  onSize: (size: { memoryMib: number; leastMemoryMib: number; processors: number }) => void
}) {
  const [least, setLeast] = useState(String(Math.min(4096, machine.memoryMib)))
  const [most, setMost] = useState(String(Math.min(8192, machine.memoryMib)))
  const [processors, setProcessors] = useState(String(Math.min(4, machine.processors)))
  const values = { memoryMib: Number(most), leastMemoryMib: Number(least), processors: Number(processors) }
  const wrong =
    Object.values(values).some((v) => !Number.isInteger(v) || v < 1) || values.leastMemoryMib > values.memoryMib
  const fields = [
    { label: 'Memory from, MiB', value: least, set: setLeast },
    { label: 'to, MiB', value: most, set: setMost },
    { label: 'Processors', value: processors, set: setProcessors },
  ]
  return (
    <span className="flex flex-wrap items-end gap-2">
      {fields.map(({ label, value, set }) => (
        <span key={label} className="w-28">
          <TextField label={label} inputMode="numeric" value={value} onChange={(e) => set(e.target.value)} />
        </span>
      ))}
      <Button small disabled={busy || wrong} onClick={() => onSize(values)}>
        Set the size
      </Button>
    </span>
  )
}
