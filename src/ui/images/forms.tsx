'use client'

import { useState } from 'react'
import { formatSize } from '@/core/bytes/size'
import { IDLE_KINDS } from '@/core/copy/idle-kinds'
import { TARGET_KINDS, type TargetKind, TARGETS } from '@/core/image/target'
import { post, useAct } from '@/ui/frame/act'
import { Button } from '@/ui/shared/button'
import { ChoiceField, TextField } from '@/ui/shared/field'
import type { ImageStoreChoice, ImageSummary } from '@/core/image/views'
import type { DriveChoice } from './drive-choice'

/** `ticket desk.img` without its last part. */
function stem(name: string): string {
  return name.replace(/\.(gz|zst)$/i, '').replace(/\.[^.]*$/, '')
}

/** A name as it is typed, with the extension of its format behind one that has none. */
function withExtension(name: string, to: TargetKind): string {
  const trimmed = name.trim()
  return trimmed === '' || /\.[a-z][a-z0-9]{1,7}$/i.test(trimmed) ? trimmed : `${trimmed}.${TARGETS[to].extension}`
}

function FormatChoice({ value, onChange }: { value: TargetKind; onChange: (kind: TargetKind) => void }) {
  return (
    <ChoiceField label="Format" value={value} onChange={(event) => onChange(event.target.value as TargetKind)}>
      {TARGET_KINDS.map((kind) => (
        <option key={kind} value={kind}>
          {TARGETS[kind].name}
        </option>
      ))}
    </ChoiceField>
  )
}

/** Writes an image anew in another format. */
export function ConvertForm({ image }: { image: ImageSummary }) {
  const { act, busy } = useAct()
  const [to, setTo] = useState<TargetKind>(image.opened?.kind === 'vhdx' ? 'qcow2' : 'vhdx')
  const [typed, setTyped] = useState<string>()
  const name = typed ?? `${stem(image.name)}.${TARGETS[to].extension}`
  return (
    <form
      className="space-y-2"
      onSubmit={(event) => {
        event.preventDefault()
        void act(() =>
          post('/api/images/jobs', { kind: 'convert', input: image.name, output: withExtension(name, to), to }),
        )
      }}
    >
      <FormatChoice value={to} onChange={setTo} />
      <TextField label="Name of the new image" value={name} onChange={(event) => setTyped(event.target.value)} />
      <Button type="submit" disabled={busy} className="w-full">
        Convert
      </Button>
    </form>
  )
}

export interface CaptureFormProps {
  readonly drives: readonly DriveChoice[]
  readonly stores: readonly ImageStoreChoice[]
  /** Partitions of the one drive, of which some can stay behind. */
  readonly partitions?: readonly { readonly number: number; readonly title: string }[]
  /** Where the page goes once the work has begun. */
  readonly next?: string
}

/** Makes an image of a drive on the bench, in the images folder or on a transfer drive. */
export function CaptureForm({ drives, stores, partitions = [], next }: CaptureFormProps) {
  const { act, busy } = useAct()
  const [driveId, setDriveId] = useState(drives[0]?.id ?? '')
  const [storeId, setStoreId] = useState('')
  const [to, setTo] = useState<TargetKind>('vhdx')
  const [usedOnly, setUsedOnly] = useState(true)
  const [leaveOut, setLeaveOut] = useState(false)
  const [without, setWithout] = useState<readonly number[]>([])
  const [typed, setTyped] = useState<string>()
  const drive = drives.find((d) => d.id === driveId)
  // A drive does not hold its own image.
  const places = stores.filter((s) => s.driveId !== driveId)
  const store = places.find((s) => s.driveId === storeId)
  const name = typed ?? `${drive?.name.toLowerCase() ?? 'drive'}.${TARGETS[to].extension}`
  const volumes = partitions.map((p) => p.number).filter((n) => !without.includes(n))
  const narrow = drives.length === 1
  return (
    <form
      className={narrow ? 'space-y-3' : 'grid items-end gap-3 sm:grid-cols-2 xl:grid-cols-3'}
      onSubmit={(event) => {
        event.preventDefault()
        const request = {
          ...{ kind: 'capture', driveId, output: withExtension(name, to), to, usedOnly },
          leaveOut: leaveOut ? IDLE_KINDS : [],
          volumes: without.length > 0 ? volumes : null,
          store: store ? { driveId: store.driveId, partition: store.partition } : null,
        }
        void act(() => post('/api/images/jobs', request), next)
      }}
    >
      {!narrow && (
        <ChoiceField label="Drive" value={driveId} onChange={(event) => setDriveId(event.target.value)}>
          {drives.map((d) => (
            <option key={d.id} value={d.id}>
              {d.name}, {d.serial}, {formatSize(d.sizeBytes)}
            </option>
          ))}
        </ChoiceField>
      )}
      <ChoiceField label="Keep it" value={store?.driveId ?? ''} onChange={(event) => setStoreId(event.target.value)}>
        <option value="">in the images folder</option>
        {places.map((s) => (
          <option key={s.driveId} value={s.driveId}>
            on the {s.name}, {formatSize(s.freeBytes)} free
          </option>
        ))}
      </ChoiceField>
      <FormatChoice value={to} onChange={setTo} />
      <TextField label="Name of the new image" value={name} onChange={(event) => setTyped(event.target.value)} />
      {partitions.length > 1 && (
        <fieldset className="text-[13.5px]">
          <legend className="mb-1 text-ink-soft">Partitions</legend>
          {partitions.map(({ number, title }) => (
            <label key={number} className="flex items-center gap-2">
              <input
                type="checkbox"
                checked={!without.includes(number)}
                onChange={(event) =>
                  setWithout(event.target.checked ? without.filter((n) => n !== number) : [...without, number])
                }
              />
              {number} {title}
            </label>
          ))}
        </fieldset>
      )}
      <div className={narrow ? 'space-y-3' : 'flex items-center gap-3 sm:col-span-2'}>
        <div className="text-[13.5px]">
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={usedOnly || without.length > 0}
              disabled={without.length > 0}
              onChange={(event) => setUsedOnly(event.target.checked)}
            />
            used blocks only
          </label>
          <label
            className="flex items-center gap-2"
            title="Page, swap, hibernation and temporary files; of the image only"
          >
            <input type="checkbox" checked={leaveOut} onChange={(event) => setLeaveOut(event.target.checked)} />
            no page or temporary files
          </label>
        </div>
        <Button
          type="submit"
          disabled={busy || !drive || (partitions.length > 0 && volumes.length === 0)}
          className={narrow ? 'w-full' : 'ml-auto shrink-0 whitespace-nowrap'}
        >
          Make it
        </Button>
      </div>
    </form>
  )
}
