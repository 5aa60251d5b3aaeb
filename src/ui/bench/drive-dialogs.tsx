'use client'

import { useState } from 'react'
import { useForm, useWatch } from 'react-hook-form'
import { formatSize } from '@/core/bytes/size'
import { parseCapacity } from '@/core/things/capacity'
import type { Health } from '@/core/health/health'
import { M2_SIZES } from '@/core/things/bodies'
import { DRIVE_KINDS, type Drive, driveName } from '@/core/things/drive'
import { type BodyFields, bodyFields, bodyOf, faultsText, parseFaults } from '@/core/things/fields'
import { useActions } from '@/ui/frame/actions'
import { Dialog } from '@/ui/shared/dialog'
import { ChoiceField, TextField, TickField } from '@/ui/shared/field'
import { useSaving } from '@/ui/shared/use-saving'

interface NewDriveProps {
  readonly models: Readonly<Record<string, { readonly label: string; readonly model: string }>>
  /** Images that are not on the bench yet. */
  readonly images: readonly string[]
  readonly onClose: () => void
}

interface NewDriveFields {
  from: 'image' | 'blank'
  kind: string
  image: string
  model: string
  serial: string
  capacity: string
  sector: '512' | '4096'
  transfer: boolean
}

/** A drive from an image file, or a blank one. */
export function NewDriveDialog({ models, images, onClose }: NewDriveProps) {
  const actions = useActions()
  const { save, busy, problem } = useSaving(onClose)
  const [wrong, setWrong] = useState<string>()
  const { control, register, handleSubmit } = useForm<NewDriveFields>({
    defaultValues: {
      from: images.length > 0 ? 'image' : 'blank',
      kind: Object.keys(models)[0],
      image: images[0] ?? '',
      model: Object.values(models)[0].model,
      serial: '',
      capacity: '1 TB',
      sector: '512',
      transfer: false,
    },
  })
  const { from, capacity } = useWatch({ control }) as NewDriveFields
  const bytes = parseCapacity(capacity)
  const send = handleSubmit((f) => {
    setWrong(undefined)
    if (f.from === 'image') return save(() => actions.addDrive({ from: 'image', image: f.image, kind: f.kind }))
    const sizeBytes = parseCapacity(f.capacity)
    if (sizeBytes === undefined) return setWrong('The capacity is no size. Write it as "960 GB" or "1 TB".')
    return save(() =>
      actions.addDrive({
        from: 'blank',
        kind: f.kind,
        model: f.model,
        serial: f.serial,
        sizeBytes,
        logicalSectorSize: Number(f.sector),
        purpose: f.transfer ? 'transfer' : 'customer',
      }),
    )
  })
  return (
    <Dialog
      title="Add a drive"
      open
      onClose={onClose}
      action="Put it on the table"
      onAct={() => void send()}
      busy={busy}
      problem={wrong ?? problem}
    >
      <div className="grid gap-3 sm:grid-cols-2">
        <ChoiceField label="What stands for it" {...register('from')}>
          <option value="image" disabled={images.length === 0}>
            an image of the images folder
          </option>
          <option value="blank">a blank drive</option>
        </ChoiceField>
        <ChoiceField label="Kind" {...register('kind')}>
          {Object.entries(models).map(([id, m]) => (
            <option key={id} value={id}>
              {m.label}
            </option>
          ))}
        </ChoiceField>
        {from === 'image' ? (
          <ChoiceField label="Image" {...register('image')}>
            {images.map((name) => (
              <option key={name} value={name}>
                {name}
              </option>
            ))}
          </ChoiceField>
        ) : (
          <>
            <TextField label="Maker and model" {...register('model')} />
            <TextField label="Serial, as printed" {...register('serial')} />
            <div>
              <TextField label="Capacity" {...register('capacity')} />
              <p className="mt-0.5 text-[13px] text-ink-soft">{bytes ? `holds ${formatSize(bytes)}` : 'no size'}</p>
            </div>
            <ChoiceField label="Sectors" {...register('sector')}>
              <option value="512">512 bytes</option>
              <option value="4096">4096 bytes</option>
            </ChoiceField>
            <TickField label="The shop’s own, may be written to on the way" {...register('transfer')} />
          </>
        )}
      </div>
      {from === 'image' && (
        <p className="mt-3 text-[13.5px] text-ink-soft">
          Its bytes are those of the file. As a target only a raw image can be written to.
        </p>
      )}
    </Dialog>
  )
}

interface DriveFields {
  model: string
  serial: string
  kind: Drive['kind']
  body: BodyFields
  protocol: Drive['protocol']
  readMb: number
  writeMb: number
  requestMs: number
  transfer: boolean
  health: Record<keyof Health, string>
  unreadable: string
  misstores: string
}

const HEALTH_NAMES: readonly [keyof Health, string][] = [
  ['powerOnHours', 'Hours in use'],
  ['temperatureCelsius', 'Temperature in °C'],
  ['reallocatedSectors', 'Sectors replaced'],
  ['pendingSectors', 'Sectors waiting'],
  ['uncorrectableSectors', 'Sectors given up'],
  ['percentageUsed', 'Writes used in %'],
  ['mediaErrors', 'Medium errors'],
]

/** Changes what is known of a drive; its bytes stay as they are. */
export function DriveDialog({ drive, onClose }: { drive: Drive; onClose: () => void }) {
  const actions = useActions()
  const { save, busy, problem } = useSaving(onClose)
  const [wrong, setWrong] = useState<string>()
  const { control, register, handleSubmit } = useForm<DriveFields>({
    defaultValues: {
      model: drive.model,
      serial: drive.serial,
      kind: drive.kind,
      body: bodyFields(drive.body),
      protocol: drive.protocol,
      readMb: drive.readBytesPerSecond / 1e6,
      writeMb: drive.writeBytesPerSecond / 1e6,
      requestMs: drive.requestSeconds * 1000,
      transfer: drive.purpose === 'transfer',
      health: Object.fromEntries(
        HEALTH_NAMES.map(([k]) => [k, drive.health?.[k]?.toString() ?? '']),
      ) as DriveFields['health'],
      unreadable: faultsText(drive.unreadable),
      misstores: faultsText(drive.misstores),
    },
  })
  const form = useWatch({ control, name: 'body.form' })
  const send = handleSubmit((f) => {
    setWrong(undefined)
    const [unreadable, misstores] = [parseFaults(f.unreadable), parseFaults(f.misstores)]
    if (!unreadable || !misstores) return setWrong('The sectors are no list. Write them as "2048, 4096+8".')
    return save(() =>
      actions.changeDrive({
        id: drive.id,
        model: f.model,
        serial: f.serial,
        kind: f.kind,
        body: bodyOf(f.body),
        protocol: f.protocol,
        readBytesPerSecond: f.readMb * 1e6,
        writeBytesPerSecond: f.writeMb * 1e6,
        requestSeconds: f.requestMs / 1000,
        purpose: f.transfer ? 'transfer' : 'customer',
        health: healthOf(f.health, drive.health),
        unreadable,
        misstores,
      }),
    )
  })
  const number = { valueAsNumber: true }
  return (
    <Dialog
      title={`The ${driveName(drive)}`}
      open
      onClose={onClose}
      action="Keep this"
      onAct={() => void send()}
      busy={busy}
      problem={wrong ?? problem}
    >
      <div className="grid gap-3 sm:grid-cols-3">
        <TextField label="Maker and model" {...register('model')} />
        <TextField label="Serial, as printed" {...register('serial')} />
        <ChoiceField label="Kind" {...register('kind')}>
          {DRIVE_KINDS.map((k) => (
            <option key={k} value={k}>
              {k}
            </option>
          ))}
        </ChoiceField>
        <ChoiceField label="Form" {...register('body.form')}>
          {['2.5-inch', '3.5-inch', 'M.2', 'blade', 'built-in'].map((f) => (
            <option key={f} value={f}>
              {f}
            </option>
          ))}
        </ChoiceField>
        {form === 'M.2' && (
          <>
            <ChoiceField label="Length" {...register('body.size')}>
              {M2_SIZES.map((s) => (
                <option key={s} value={s}>
                  {s}
                </option>
              ))}
            </ChoiceField>
            <ChoiceField label="Key" {...register('body.key')}>
              {['B', 'M', 'B+M'].map((k) => (
                <option key={k} value={k}>
                  {k}
                </option>
              ))}
            </ChoiceField>
          </>
        )}
        {form === 'blade' && <TextField label="Maker’s family" {...register('body.family')} />}
        <ChoiceField label="Speaks" {...register('protocol')}>
          <option value="SATA">SATA</option>
          <option value="PCIe">PCIe</option>
          <option value="eMMC">eMMC</option>
        </ChoiceField>
        <TextField label="Reads, MB/s" type="number" min={1} step="any" {...register('readMb', number)} />
        <TextField label="Writes, MB/s" type="number" min={1} step="any" {...register('writeMb', number)} />
        <TextField label="A request costs, ms" type="number" min={0} step="any" {...register('requestMs', number)} />
      </div>
      <div className="mt-2">
        <TickField label="The shop’s own, may be written to on the way" {...register('transfer')} />
      </div>
      <h3 className="caption mt-4 mb-2">Health, as it reports it</h3>
      <div className="grid gap-3 sm:grid-cols-4">
        {HEALTH_NAMES.map(([key, name]) => (
          <TextField key={key} label={name} type="number" {...register(`health.${key}`)} />
        ))}
      </div>
      <h3 className="caption mt-4 mb-2">Faults of its medium</h3>
      <div className="grid gap-3 sm:grid-cols-2">
        <TextField label="Sectors it does not read" {...register('unreadable')} />
        <TextField label="Sectors it stores wrongly" {...register('misstores')} />
      </div>
      <p className="mt-1 text-[13px] text-ink-soft">
        The stand-in drive behaves so; nothing in the copy knows. First sectors with how many: 2048, 4096+8.
      </p>
    </Dialog>
  )
}

/** Health with what was typed; nothing when the two that every drive reports are empty. */
function healthOf(fields: DriveFields['health'], before: Health | undefined): unknown {
  if (fields.powerOnHours === '' && fields.temperatureCelsius === '') return undefined
  const typed = HEALTH_NAMES.flatMap(([key]) => (fields[key] === '' ? [] : [[key, Number(fields[key])] as const]))
  return { ...before, ...Object.fromEntries(typed) }
}
