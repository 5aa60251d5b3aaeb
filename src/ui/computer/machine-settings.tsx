'use client'

import { useState } from 'react'
import { MIB } from '@/core/bytes/size'
import type { Computer } from '@/core/things/computer'
import { post, useAct } from '@/ui/frame/act'
import { Button } from '@/ui/shared/button'
import { TextField, TickField } from '@/ui/shared/field'

/** Writes a virtual machine into the images folder as a package that other hosts take. */
export function PackMachine({ computer }: { computer: Computer }) {
  const { act, busy } = useAct()
  const [name, setName] = useState(`${computer.name}.ova`)
  const runs = computer.running !== 'off'
  return (
    <form
      className="space-y-3"
      onSubmit={(event) => {
        event.preventDefault()
        void act(() => post('/api/images/jobs', { kind: 'pack', computerId: computer.id, output: name }), '/images')
      }}
    >
      <TextField label="Name of the package" value={name} onChange={(event) => setName(event.target.value)} />
      <Button type="submit" small disabled={busy || runs}>
        Write the package
      </Button>
      <p className="text-[13px] text-ink-soft">
        {runs
          ? 'Shut it down first: its disks change while it runs.'
          : 'One OVF file with its descriptor, a manifest and its disks, in the images folder.'}
      </p>
    </form>
  )
}

interface MachineSettingsProps {
  readonly computer: Computer
  readonly busy: boolean
  readonly say: (input: unknown) => Promise<boolean>
}

/** What a virtual machine is given of its host, and where its network cards hang. */
export function MachineSettings({ computer, busy, say }: MachineSettingsProps) {
  const { memoryBytes, virtual, processors, networkCards, running } = computer
  const [least, setLeast] = useState(String((virtual?.leastMemoryBytes ?? memoryBytes) / MIB))
  const [most, setMost] = useState(String(memoryBytes / MIB))
  const [cores, setCores] = useState(String(processors.cores))
  const [cards, setCards] = useState(
    networkCards.map((card) => ({
      name: card.name,
      connected: card.unplugged !== true,
      vlan: card.vlan === undefined ? '' : String(card.vlan),
    })),
  )
  const runs = running !== 'off'
  const numbers = [Number(least), Number(most), Number(cores)]
  const vlans = cards.map((card) => (card.vlan === '' ? null : Number(card.vlan)))
  const wrong =
    numbers.some((n) => !Number.isInteger(n) || n < 1) ||
    numbers[0] > numbers[1] ||
    vlans.some((vlan) => vlan !== null && (!Number.isInteger(vlan) || vlan < 1 || vlan > 4094))
  const save = () =>
    void say({
      do: 'machine',
      leastMemoryMib: numbers[0],
      memoryMib: numbers[1],
      processors: numbers[2],
      cards: cards.map(({ name, connected }, i) => ({ name, connected, vlan: vlans[i] })),
    })
  return (
    <section className="mb-5" data-testid="machine">
      <h2 className="mb-2 font-bold">Memory, processors, network</h2>
      <div className="panel space-y-3 px-[18px] py-3">
        <div className="grid gap-3 sm:grid-cols-3">
          <TextField
            label="Memory from, MiB"
            inputMode="numeric"
            disabled={runs}
            value={least}
            onChange={(e) => setLeast(e.target.value)}
          />
          <TextField
            label="Memory to, MiB"
            inputMode="numeric"
            disabled={runs}
            value={most}
            onChange={(e) => setMost(e.target.value)}
          />
          <TextField
            label="Processors"
            inputMode="numeric"
            disabled={runs}
            value={cores}
            onChange={(e) => setCores(e.target.value)}
          />
        </div>
        {cards.map((card, i) => (
          <div key={card.name} className="flex flex-wrap items-end gap-x-6 gap-y-2">
            <TickField
              label={`${card.name} is connected`}
              checked={card.connected}
              onChange={(e) => setCards(cards.map((c, k) => (k === i ? { ...c, connected: e.target.checked } : c)))}
            />
            <span className="w-40">
              <TextField
                label={`VLAN of ${card.name}`}
                inputMode="numeric"
                placeholder="none"
                value={card.vlan}
                onChange={(e) => setCards(cards.map((c, k) => (k === i ? { ...c, vlan: e.target.value } : c)))}
              />
            </span>
          </div>
        ))}
        <Button small disabled={busy || wrong} onClick={save}>
          Save settings
        </Button>
        {runs && <p className="text-[13px] text-ink-soft">Shut it down to change its memory and processors.</p>}
      </div>
    </section>
  )
}
