'use client'

import { useState } from 'react'
import { useForm } from 'react-hook-form'
import { GIB } from '@/core/bytes/size'
import {
  type Accessory,
  type AccessoryModel,
  DISK_FORMATS,
  type DiskFormat,
  diskFormatName,
} from '@/core/things/accessory'
import { slotFields, type SlotFields, slotOf } from '@/core/things/fields'
import { LINKS, NETWORK_LINKS, type Plug, type Socket, type NetworkLink } from '@/core/things/links'
import { useActions } from '@/ui/frame/actions'
import { Dialog } from '@/ui/shared/dialog'
import { ChoiceField, TextField, TickField } from '@/ui/shared/field'
import { SlotEditor } from './slot-editor'
import { SocketEditor } from './socket-editor'
import { useSaving } from '@/ui/shared/use-saving'

interface AccessoryDialogProps {
  readonly accessory?: Accessory
  readonly models: Readonly<Record<string, AccessoryModel>>
  readonly onClose: () => void
}

/** All fields that some kind of accessory has. */
interface AccessoryFields {
  name: string
  detail: string
  slots: SlotFields[]
  plugA: boolean
  plugC: boolean
  count: number
  signed: boolean
  image: string
  plug: Plug
  sockets: Socket[]
  network: string
  freeGib: number
  diskMb: number
  memoryGib: number
  cores: number
  formats: Record<DiskFormat, boolean>
  link: NetworkLink
}

function fieldsOf(made: AccessoryModel): AccessoryFields {
  const bays = 'bays' in made ? made.bays : []
  const plugs = 'plugs' in made ? made.plugs : []
  const host = made.kind === 'host' ? made : undefined
  return {
    name: made.name,
    detail: made.detail,
    slots: bays.map(slotFields),
    plugA: plugs.includes('A'),
    plugC: plugs.includes('C'),
    count: made.kind === 'bracket' ? made.count : 1,
    signed: made.kind === 'stick' && made.signed,
    image: made.kind === 'stick' ? (made.image ?? '') : '',
    plug: made.kind === 'stick' ? made.plug : 'A',
    sockets: (host?.sockets ?? []).map((s) => ({ ...s })),
    network: host?.network ?? '',
    freeGib: Math.round((host?.freeBytes ?? 0) / GIB),
    diskMb: (host?.diskBytesPerSecond ?? 480e6) / 1e6,
    memoryGib: (host?.memoryBytes ?? GIB) / GIB,
    cores: host?.cores ?? 4,
    formats: Object.fromEntries(
      DISK_FORMATS.map((format) => [format, host?.diskFormats.includes(format) ?? false]),
    ) as AccessoryFields['formats'],
    link: 'link' in made ? made.link : 'ethernet-1',
  }
}

/** The accessory that the fields describe; what is wrong in it is found where it is stored. */
function accessoryOf(kind: Accessory['kind'], f: AccessoryFields): unknown {
  const base = { kind, name: f.name, detail: f.detail }
  switch (kind) {
    case 'bracket':
      return { ...base, count: f.count }
    case 'stick':
      return { ...base, plug: f.plug, signed: f.signed, image: f.image.trim() || null }
    case 'network':
    case 'far-bench':
      return { ...base, link: f.link }
    case 'host':
      return {
        ...base,
        sockets: f.sockets,
        network: f.network || null,
        freeBytes: f.freeGib * GIB,
        diskBytesPerSecond: f.diskMb * 1e6,
        memoryBytes: f.memoryGib * GIB,
        cores: f.cores,
        diskFormats: DISK_FORMATS.filter((format) => f.formats[format]),
      }
    default: {
      const plugs = [...(f.plugA ? ['A'] : []), ...(f.plugC ? ['C'] : [])]
      return { ...base, plugs, bays: f.slots.map(slotOf) }
    }
  }
}

/** Describes a dock, an enclosure, a cable, a bracket, a stick, a host or a network. */
export function AccessoryDialog({ accessory, models, onClose }: AccessoryDialogProps) {
  const actions = useActions()
  const { save, busy, problem } = useSaving(onClose)
  const first = accessory ?? Object.values(models)[0]
  const [kind, setKind] = useState(first.kind)
  const { control, register, reset, setValue, handleSubmit } = useForm<AccessoryFields>({
    defaultValues: fieldsOf(first),
  })
  const send = handleSubmit((f) =>
    save(() => actions.saveAccessory({ ...(accessoryOf(kind, f) as object), id: accessory?.id ?? '' })),
  )
  const number = { valueAsNumber: true }
  const adapter = kind === 'dock' || kind === 'enclosure' || kind === 'cable'
  return (
    <Dialog
      title={accessory ? accessory.name : 'Add something else'}
      open
      onClose={onClose}
      action={accessory ? 'Keep this' : 'Put it on the bench'}
      onAct={() => void send()}
      busy={busy}
      problem={problem}
    >
      <div className="grid gap-3 sm:grid-cols-2">
        {!accessory && (
          <ChoiceField
            label="Begin with"
            onChange={(e) => {
              const model = models[e.target.value]
              setKind(model.kind)
              reset(fieldsOf(model))
            }}
          >
            {Object.entries(models).map(([id, m]) => (
              <option key={id} value={id}>
                {m.name}
              </option>
            ))}
          </ChoiceField>
        )}
        <TextField label="Name" {...register('name')} />
        <TextField label="In a few words" {...register('detail')} />
        {kind === 'bracket' && <TextField label="How many" type="number" min={1} {...register('count', number)} />}
        {kind === 'stick' && (
          <>
            <ChoiceField label="USB plug" {...register('plug')}>
              <option value="A">A</option>
              <option value="C">C</option>
            </ChoiceField>
            <TickField label="Accepted by Secure Boot" {...register('signed')} />
            <TextField label="Image with what is on it" placeholder="rescue stick.qcow2" {...register('image')} />
          </>
        )}
        {(kind === 'network' || kind === 'far-bench' || kind === 'host') && (
          <ChoiceField label="Network" {...register(kind === 'host' ? 'network' : 'link')}>
            {kind === 'host' && <option value="">none</option>}
            {NETWORK_LINKS.map((link) => (
              <option key={link} value={link}>
                {LINKS[link].name}
              </option>
            ))}
          </ChoiceField>
        )}
        {kind === 'host' && (
          <>
            <TextField label="Free room in GiB" type="number" min={0} {...register('freeGib', number)} />
            <TextField label="Its disk in MB/s" type="number" min={1} {...register('diskMb', number)} />
            <TextField label="Memory in GiB" type="number" min={1} {...register('memoryGib', number)} />
            <TextField label="Cores" type="number" min={1} {...register('cores', number)} />
          </>
        )}
      </div>
      {kind === 'host' && (
        <div className="mt-4 space-y-4">
          <fieldset>
            <legend className="mb-1 text-[13px] text-ink-soft">Its virtual machines run from</legend>
            <div className="flex flex-wrap gap-5">
              {DISK_FORMATS.map((format) => (
                <TickField key={format} label={diskFormatName(format)} {...register(`formats.${format}`)} />
              ))}
            </div>
          </fieldset>
          <SocketEditor control={control} register={register} />
        </div>
      )}
      {adapter && (
        <div className="mt-4 space-y-3">
          <div className="flex gap-5">
            <TickField label="A plug" {...register('plugA')} />
            <TickField label="C plug" {...register('plugC')} />
          </div>
          <SlotEditor
            control={control}
            register={register}
            setValue={setValue}
            what="bay"
            links={{ sata: ['usb-5', 'usb-2', 'usb-10'], pcie: ['usb-10', 'usb-5'] }}
          />
        </div>
      )}
    </Dialog>
  )
}
