'use client'

import { type Control, type FieldValues, type Path, useFieldArray, type UseFormRegister } from 'react-hook-form'
import { LINKS, type Socket } from '@/core/things/links'
import { Button } from '@/ui/shared/button'
import { ChoiceField, TextField } from '@/ui/shared/field'

/** A form that has USB sockets. */
export interface HasSockets extends FieldValues {
  sockets: Socket[]
}

/** The USB sockets of a computer or a host. */
export function SocketEditor<F extends HasSockets>({
  control,
  register,
}: {
  control: Control<F>
  register: UseFormRegister<F>
}) {
  const sockets = useFieldArray({ control, name: 'sockets' as never })
  const at = (i: number, field: keyof Socket) => `sockets.${i}.${field}` as Path<F>
  return (
    <div className="space-y-2">
      {sockets.fields.map((field, i) => (
        <div key={field.id} className="grid grid-cols-2 items-end gap-3 sm:grid-cols-[1fr_1fr_1fr_auto]">
          <ChoiceField label="USB plug" {...register(at(i, 'plug'))}>
            <option value="A">A</option>
            <option value="C">C</option>
          </ChoiceField>
          <ChoiceField label="Speed" {...register(at(i, 'link'))}>
            {(['usb-2', 'usb-5', 'usb-10'] as const).map((link) => (
              <option key={link} value={link}>
                {LINKS[link].name}
              </option>
            ))}
          </ChoiceField>
          <TextField label="How many" type="number" min={1} {...register(at(i, 'count'), { valueAsNumber: true })} />
          <Button small className="mb-1.5 justify-self-start" onClick={() => sockets.remove(i)}>
            Take away
          </Button>
        </div>
      ))}
      <Button small onClick={() => sockets.append({ plug: 'A', link: 'usb-5', count: 1 } as never)}>
        Add sockets
      </Button>
    </div>
  )
}
