'use client'

import { useFieldArray, useForm, useWatch } from 'react-hook-form'
import { GIB } from '@/core/bytes/size'
import type { Computer, NetworkCard } from '@/core/things/computer'
import { deviceOf, slotFields, type SlotFields, slotOf } from '@/core/things/fields'
import { LINKS, NETWORK_LINKS, type Socket } from '@/core/things/links'
import { useActions } from '@/ui/frame/actions'
import { Button } from '@/ui/shared/button'
import { Dialog } from '@/ui/shared/dialog'
import { ChoiceField, TextField, TickField } from '@/ui/shared/field'
import { SlotEditor } from './slot-editor'
import { SocketEditor } from './socket-editor'
import { useSaving } from '@/ui/shared/use-saving'

type ComputerModel = Omit<Computer, 'id' | 'name'>

interface ComputerDialogProps {
  /** The computer that is changed; a new one without. */
  readonly computer?: Computer
  readonly models: Readonly<Record<string, ComputerModel>>
  /** Other benches that it may stand at. */
  readonly farBenches: readonly { readonly id: string; readonly name: string }[]
  readonly onClose: () => void
}

interface ComputerFields {
  name: string
  model: string
  memoryGib: number
  processors: { count: number; cores: number }
  firmware: Computer['firmware']
  slots: SlotFields[]
  homeSlot: string
  sockets: Socket[]
  networkCards: { name: string; link: NetworkCard['link']; address: string; drivers: string; deviceId: string }[]
  battery: string
  /** The other bench that it stands at; empty for this one. */
  stands: string
  kind: Computer['chassis']['kind']
  hasBattery: boolean
  cover: Computer['chassis']['cover']
  driveMount: Computer['chassis']['driveMount']
  connectors: Computer['chassis']['connectors']
  movesOver: Computer['chassis']['movesOver']
  tools: string
}

function fieldsOf(name: string, computer: ComputerModel): ComputerFields {
  return {
    name,
    model: computer.model,
    memoryGib: computer.memoryBytes / GIB,
    processors: { ...computer.processors },
    firmware: { ...computer.firmware },
    slots: computer.slots.map(slotFields),
    homeSlot: computer.homeSlot,
    sockets: computer.sockets.map((s) => ({ ...s })),
    networkCards: computer.networkCards.map((c) => ({
      ...c,
      address: c.address ?? '',
      drivers: (c.drivers ?? []).join(', '),
      deviceId: c.deviceId ?? '',
    })),
    battery: computer.batteryPercent === null ? '' : String(computer.batteryPercent),
    stands: computer.farBenchId ?? '',
    kind: computer.chassis.kind,
    hasBattery: computer.chassis.hasBattery,
    cover: { ...computer.chassis.cover },
    driveMount: { ...computer.chassis.driveMount },
    connectors: computer.chassis.connectors,
    movesOver: computer.chassis.movesOver,
    tools: computer.chassis.tools.join(', '),
  }
}

/** Screws one by one are kept only while they come to the number that was given. */
function counted<H extends Computer['chassis']['driveMount']>(held: H): H {
  const sum = held.groups.reduce((n, g) => n + g.count, 0)
  return sum === held.screws ? held : { ...held, groups: [] }
}

/** Describes a computer, begun from a model of the catalogue. */
export function ComputerDialog({ computer, models, farBenches, onClose }: ComputerDialogProps) {
  const actions = useActions()
  const { save, busy, problem } = useSaving(onClose)
  const first = Object.values(models)[0]
  const form = useForm<ComputerFields>({ defaultValues: fieldsOf(computer?.name ?? '', computer ?? first) })
  const { control, register, reset, getValues, setValue, handleSubmit } = form
  const cards = useFieldArray({ control, name: 'networkCards' })
  const slots = useWatch({ control, name: 'slots' })
  const mode = useWatch({ control, name: 'firmware.mode' })
  const base = computer ?? first

  const send = handleSubmit((f) => {
    const made = {
      ...base,
      id: computer?.id ?? '',
      name: f.name,
      model: f.model,
      farBenchId: f.stands === '' ? undefined : f.stands,
      memoryBytes: f.memoryGib * GIB,
      processors: f.processors,
      firmware: { ...f.firmware, secureBoot: f.firmware.mode === 'uefi' && f.firmware.secureBoot },
      slots: f.slots.map(slotOf),
      homeSlot: f.slots.some((s) => s.id.trim() === f.homeSlot) ? f.homeSlot : (f.slots[0]?.id.trim() ?? ''),
      sockets: f.sockets,
      networkCards: f.networkCards.map(({ drivers, deviceId, ...c }) => ({
        ...c,
        address: c.address.trim() || null,
        ...deviceOf({ drivers, deviceId }),
      })),
      batteryPercent: f.battery.trim() === '' ? null : Number(f.battery),
      chassis: {
        kind: f.kind,
        hasBattery: f.hasBattery,
        cover: counted(f.cover),
        driveMount: counted(f.driveMount),
        connectors: f.connectors,
        movesOver: f.movesOver,
        tools: f.tools
          .split(',')
          .map((t) => t.trim())
          .filter(Boolean),
      },
    }
    return save(() => actions.saveComputer(made))
  })
  const number = { valueAsNumber: true }
  return (
    <Dialog
      title={computer ? `The ${computer.name}` : 'Describe a computer'}
      open
      onClose={onClose}
      action={computer ? 'Keep this' : 'Put it on the bench'}
      onAct={() => void send()}
      busy={busy}
      problem={problem}
    >
      <div className="space-y-5">
        <div className="grid gap-3 sm:grid-cols-3">
          {farBenches.length > 0 && (
            <ChoiceField label="Stands" {...register('stands')}>
              <option value="">here</option>
              {farBenches.map(({ id, name }) => (
                <option key={id} value={id}>
                  at {name}
                </option>
              ))}
            </ChoiceField>
          )}
          {!computer && (
            <ChoiceField
              label="Begin with"
              onChange={(e) => reset(fieldsOf(getValues('name'), models[e.target.value]))}
            >
              {Object.entries(models).map(([id, m]) => (
                <option key={id} value={id}>
                  {m.model}, {m.chassis.kind}
                </option>
              ))}
            </ChoiceField>
          )}
          <TextField label="What it is called" placeholder="ticket desk" {...register('name')} />
          <TextField label="Maker and model" {...register('model')} />
          <TextField label="Memory in GiB" type="number" min={1} {...register('memoryGib', number)} />
          <TextField label="Processors" type="number" min={1} {...register('processors.count', number)} />
          <TextField label="Cores each" type="number" min={1} {...register('processors.cores', number)} />
        </div>
        <Part title="Firmware">
          <div className="grid gap-3 sm:grid-cols-3">
            <ChoiceField label="Mode" {...register('firmware.mode')}>
              <option value="uefi">UEFI</option>
              <option value="bios">BIOS</option>
            </ChoiceField>
            <TextField label="Key of the boot menu" {...register('firmware.bootMenuKey')} />
          </div>
          <div className="mt-2 flex flex-wrap gap-x-5 gap-y-1">
            {mode === 'uefi' && <TickField label="Secure Boot on" {...register('firmware.secureBoot')} />}
            <TickField label="Starts from USB" {...register('firmware.startsFromUsb')} />
            <TickField label="Starts from NVMe" {...register('firmware.startsFromNvme')} />
            <TickField label="Starts beyond 2 TiB" {...register('firmware.startsBeyond2Tib')} />
          </div>
        </Part>
        <Part title="Slots">
          <SlotEditor
            control={control}
            register={register}
            setValue={setValue}
            what="slot"
            links={{ sata: ['sata-6', 'sata-3'], pcie: ['pcie-3x4', 'pcie-3x2'] }}
          />
          <div className="mt-3 grid sm:grid-cols-3">
            <ChoiceField label="It starts from" {...register('homeSlot')}>
              {slots.map((s, i) => (
                <option key={i} value={s.id}>
                  {s.id || `slot ${i + 1}`}
                </option>
              ))}
            </ChoiceField>
          </div>
        </Part>
        <Part title="USB sockets">
          <SocketEditor control={control} register={register} />
        </Part>
        <Part title="Network cards">
          <div className="space-y-2">
            {cards.fields.map((field, i) => (
              <div key={field.id} className="grid items-end gap-3 sm:grid-cols-3">
                <TextField label="Name" {...register(`networkCards.${i}.name`)} />
                <ChoiceField label="Speed" {...register(`networkCards.${i}.link`)}>
                  {linksFor(field.link).map((link) => (
                    <option key={link} value={link}>
                      {LINKS[link].name}
                    </option>
                  ))}
                </ChoiceField>
                <TextField label="Fixed address" {...register(`networkCards.${i}.address`)} />
                <TextField label="Driver, where no system has it" {...register(`networkCards.${i}.drivers`)} />
                <TextField
                  label="Device id, if known"
                  placeholder="PCI\VEN_1F5C&DEV_2201"
                  {...register(`networkCards.${i}.deviceId`)}
                />
                <Button small className="mb-1.5" onClick={() => cards.remove(i)}>
                  Take away
                </Button>
              </div>
            ))}
            <Button
              small
              onClick={() =>
                cards.append({ name: 'Ethernet', link: 'ethernet-1', address: '', drivers: '', deviceId: '' })
              }
            >
              Add a network card
            </Button>
          </div>
        </Part>
        <Part title="Case">
          <div className="grid gap-3 sm:grid-cols-4">
            <ChoiceField label="Kind" {...register('kind')}>
              {['desktop', 'tower', 'laptop', 'server'].map((k) => (
                <option key={k} value={k}>
                  {k}
                </option>
              ))}
            </ChoiceField>
            <TextField label="Battery in %" {...register('battery')} placeholder="none" />
            <TextField label="What comes off" {...register('cover.name')} />
            <TextField label="Its screws" type="number" min={0} {...register('cover.screws', number)} />
            <TextField label="Which screws" {...register('cover.screw')} />
            <TextField label="How it comes off" {...register('cover.how')} />
            <TextField label="Screws of a drive" type="number" min={0} {...register('driveMount.screws', number)} />
            <TextField label="Which those are" {...register('driveMount.screw')} />
            <TextField label="How a drive comes out" {...register('driveMount.how')} />
            <TextField label="Tools" {...register('tools')} />
          </div>
          <div className="mt-2">
            <TickField label="Has a battery to unplug" {...register('hasBattery')} />
          </div>
        </Part>
      </div>
    </Dialog>
  )
}

function Part({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <section>
      <h3 className="caption mb-2">{title}</h3>
      {children}
    </section>
  )
}

/** What a card is said to do; one that was seen may tell no rate. */
const linksFor = (link: NetworkCard['link']) => (link === 'own' ? [link, ...NETWORK_LINKS] : NETWORK_LINKS)
