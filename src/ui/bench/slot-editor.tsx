'use client'

import { clsx } from 'clsx'
import {
  type Control,
  type FieldValues,
  type Path,
  useFieldArray,
  type UseFormRegister,
  useWatch,
  type UseFormSetValue,
} from 'react-hook-form'
import { M2_SIZES } from '@/core/things/bodies'
import { NEW_SLOT, SLOT_FORMS, type SlotFields } from '@/core/things/fields'
import { LINKS, type LinkId } from '@/core/things/links'
import { Button } from '@/ui/shared/button'
import { ChoiceField, TextField } from '@/ui/shared/field'

/** A form that has places for drives. */
export interface HasSlots extends FieldValues {
  slots: SlotFields[]
}

interface SlotEditorProps<F extends HasSlots> {
  readonly control: Control<F>
  readonly register: UseFormRegister<F>
  readonly setValue: UseFormSetValue<F>
  /** What one place is called: `slot`, `bay`. */
  readonly what: string
  /** Links that can be chosen for each protocol. */
  readonly links: { readonly sata: readonly LinkId[]; readonly pcie: readonly LinkId[] }
}

/** The slots of a computer, or the bays of a dock: what each takes and how fast it is. */
export function SlotEditor<F extends HasSlots>({ control, register, setValue, what, links }: SlotEditorProps<F>) {
  const slots = useFieldArray({ control, name: 'slots' as never })
  const now = useWatch({ control, name: 'slots' as never }) as unknown as SlotFields[]
  const at = (i: number, field: keyof SlotFields) => `slots.${i}.${field}` as Path<F>
  return (
    <div className="space-y-3">
      {slots.fields.map((field, i) => {
        const slot = now[i] ?? NEW_SLOT
        return (
          <fieldset key={field.id} className="rounded-md bg-sunk p-3">
            <legend className="sr-only">
              {what} {i + 1}
            </legend>
            <div className="grid gap-3 sm:grid-cols-3">
              <TextField label={`Name of the ${what}`} {...register(at(i, 'id'))} />
              <ChoiceField label="Takes" {...register(at(i, 'form'))}>
                {SLOT_FORMS.map((form) => (
                  <option key={form} value={form}>
                    {form}
                  </option>
                ))}
              </ChoiceField>
              <ChoiceField label="Speaks" {...register(at(i, 'protocols'))}>
                {['SATA', 'PCIe', 'SATA and PCIe', 'eMMC'].map((p) => (
                  <option key={p} value={p}>
                    {p}
                  </option>
                ))}
              </ChoiceField>
              {slot.form === 'M.2' && (
                <>
                  <ChoiceField label="Key" {...register(at(i, 'key'))}>
                    <option value="M">M key</option>
                    <option value="B">B key</option>
                  </ChoiceField>
                  <div className="sm:col-span-2">
                    <p className="mb-0.5 text-[13px] text-ink-soft">Lengths</p>
                    <div className="flex flex-wrap gap-1.5">
                      {M2_SIZES.map((size) => {
                        const on = slot.sizes.includes(size)
                        return (
                          <button
                            key={size}
                            type="button"
                            aria-pressed={on}
                            onClick={() =>
                              setValue(
                                at(i, 'sizes'),
                                (on
                                  ? slot.sizes.filter((s) => s !== size)
                                  : M2_SIZES.filter((s) => s === size || slot.sizes.includes(s))) as never,
                              )
                            }
                            className={clsx(
                              'rounded border px-2 py-1 font-mono text-[13px]',
                              on ? 'border-ink bg-ink text-paper' : 'border-line-strong bg-sheet',
                            )}
                          >
                            {size}
                          </button>
                        )
                      })}
                    </div>
                  </div>
                </>
              )}
              {slot.form === 'blade' && <TextField label="Maker’s family" {...register(at(i, 'family'))} />}
              {slot.protocols.includes('SATA') && (
                <LinkChoice label="Link for SATA drives" links={links.sata} field={register(at(i, 'sataLink'))} />
              )}
              {slot.protocols.includes('PCIe') && (
                <LinkChoice label="Link for PCIe drives" links={links.pcie} field={register(at(i, 'pcieLink'))} />
              )}
              {what === 'slot' && (
                <>
                  <TextField
                    label="Driver, where it is no usual one"
                    placeholder="storahci"
                    {...register(at(i, 'drivers'))}
                  />
                  <TextField
                    label="Device id of its controller, if known"
                    placeholder="PCI\VEN_1F5C&DEV_09A1"
                    {...register(at(i, 'deviceId'))}
                  />
                </>
              )}
            </div>
            {slots.fields.length > 1 && (
              <Button small className="mt-2" onClick={() => slots.remove(i)}>
                Take this {what} away
              </Button>
            )}
          </fieldset>
        )
      })}
      <Button
        small
        onClick={() => slots.append({ ...NEW_SLOT, sataLink: links.sata[0], pcieLink: links.pcie[0] } as never)}
      >
        Add a {what}
      </Button>
    </div>
  )
}

function LinkChoice({
  label,
  links,
  field,
}: {
  label: string
  links: readonly LinkId[]
  field: ReturnType<UseFormRegister<FieldValues>>
}) {
  return (
    <ChoiceField label={label} {...field}>
      {links.map((link) => (
        <option key={link} value={link}>
          {LINKS[link].name}
        </option>
      ))}
    </ChoiceField>
  )
}
