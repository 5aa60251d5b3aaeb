'use client'

import { useState } from 'react'
import { formatSize } from '@/core/bytes/size'
import { IDLE_KINDS } from '@/core/copy/idle-kinds'
import { TARGET_KINDS, type TargetKind, TARGETS } from '@/core/image/target'
import { post, useAct } from '@/ui/frame/act'
import { Button } from '@/ui/shared/button'
import { ChoiceField, TextField } from '@/ui/shared/field'
import type { ImageSummary } from '@/core/image/views'
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

/** Makes an image of a drive on the bench. */
export function CaptureForm({ drives }: { drives: readonly DriveChoice[] }) {
  const { act, busy } = useAct()
  const [driveId, setDriveId] = useState(drives[0]?.id ?? '')
  const [to, setTo] = useState<TargetKind>('vhdx')
  const [usedOnly, setUsedOnly] = useState(true)
  const [leaveOut, setLeaveOut] = useState(false)
  const [typed, setTyped] = useState<string>()
  const drive = drives.find((d) => d.id === driveId)
  const name = typed ?? `${drive?.name.toLowerCase() ?? 'drive'}.${TARGETS[to].extension}`
  return (
    <form
      className="grid items-end gap-3 sm:grid-cols-2 xl:grid-cols-4"
      onSubmit={(event) => {
        event.preventDefault()
        void act(() =>
          post('/api/images/jobs', {
            ...{ kind: 'capture', driveId, output: withExtension(name, to), to, usedOnly },
            leaveOut: leaveOut ? IDLE_KINDS : [],
          }),
        )
      }}
    >
      <ChoiceField label="Drive" value={driveId} onChange={(event) => setDriveId(event.target.value)}>
        {drives.map((d) => (
          <option key={d.id} value={d.id}>
            {d.name}, {d.serial}, {formatSize(d.sizeBytes)}
          </option>
        ))}
      </ChoiceField>
      <FormatChoice value={to} onChange={setTo} />
      <TextField label="Name of the new image" value={name} onChange={(event) => setTyped(event.target.value)} />
      <div className="flex items-center gap-3">
        <div className="text-[13.5px]">
          <label className="flex items-center gap-2">
            <input type="checkbox" checked={usedOnly} onChange={(event) => setUsedOnly(event.target.checked)} />
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
        <Button type="submit" disabled={busy || !drive} className="ml-auto shrink-0 whitespace-nowrap">
          Make it
        </Button>
      </div>
    </form>
  )
}
