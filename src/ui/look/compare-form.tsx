'use client'

import { useState } from 'react'
import { post, useAct } from '@/ui/frame/act'
import { Button } from '@/ui/shared/button'
import { ChoiceField } from '@/ui/shared/field'

/** A drive or an image that another can be compared with. */
export interface ComparableDisk {
  readonly kind: 'drives' | 'images'
  readonly id: string
  readonly name: string
}

/** Compares a drive or an image with another as disks. `next` is where its end is told. */
export function CompareForm({
  disk,
  others,
  next,
}: {
  disk: Pick<ComparableDisk, 'kind' | 'id'>
  others: readonly ComparableDisk[]
  next?: string
}) {
  const { act, busy } = useAct()
  const [chosen, setChosen] = useState(0)
  const other = others[chosen] ?? others[0]
  if (!other) return <p className="text-[13px] text-ink-soft">There is no other disk to compare with.</p>
  const group = (kind: ComparableDisk['kind'], label: string) =>
    others.some((o) => o.kind === kind) && (
      <optgroup label={label}>
        {others.map((o, i) =>
          o.kind === kind ? (
            <option key={`${o.kind}/${o.id}`} value={i}>
              {o.name}
            </option>
          ) : null,
        )}
      </optgroup>
    )
  return (
    <form
      className="space-y-2"
      onSubmit={(event) => {
        event.preventDefault()
        const of = ({ kind, id }: Pick<ComparableDisk, 'kind' | 'id'>) => ({ kind, id })
        void act(() => post('/api/images/jobs', { kind: 'compare', a: of(disk), b: of(other) }), next)
      }}
    >
      <ChoiceField
        label="Compare with"
        value={others.indexOf(other)}
        onChange={(event) => setChosen(Number(event.target.value))}
      >
        {group('images', 'Images')}
        {group('drives', 'Drives')}
      </ChoiceField>
      <Button type="submit" disabled={busy} className="w-full">
        Compare
      </Button>
    </form>
  )
}
