import type { Body, Opening, Protocol, Slot } from './bodies'
import type { Drive } from './drive'
import type { LinkId } from './links'

// Slots and bodies as a form has them: one flat record each, whatever form is chosen.

export const SLOT_FORMS = ['2.5-inch', '3.5-inch', '2.5 and 3.5-inch', 'M.2', 'blade', 'built-in'] as const
export type SlotForm = (typeof SLOT_FORMS)[number]

export interface SlotFields {
  id: string
  form: SlotForm
  /** M.2 sizes that go in. */
  sizes: string[]
  key: 'B' | 'M'
  family: string
  protocols: 'SATA' | 'PCIe' | 'SATA and PCIe' | 'eMMC'
  sataLink: LinkId
  pcieLink: LinkId
  /** Service names of the drivers that serve its controller, with commas between; empty for the usual ones. */
  drivers: string
  /** What its controller says that it is; empty where that is not known. */
  deviceId: string
}

export const NEW_SLOT: SlotFields = {
  id: '',
  form: '2.5-inch',
  sizes: ['2280'],
  key: 'M',
  family: '',
  protocols: 'SATA',
  sataLink: 'sata-6',
  pcieLink: 'pcie-3x4',
  drivers: '',
  deviceId: '',
}

/** A slot as the fields of a form. */
export function slotFields(slot: Slot): SlotFields {
  const m2 = slot.takes.find((t) => t.form === 'M.2')
  const blade = slot.takes.find((t) => t.form === 'blade')
  const both = slot.takes.some((t) => t.form === '2.5-inch') && slot.takes.some((t) => t.form === '3.5-inch')
  const link = (protocol: Protocol) => slot.speaks.find((s) => s.protocol === protocol)?.link
  return {
    id: slot.id,
    form: m2 ? 'M.2' : blade ? 'blade' : both ? '2.5 and 3.5-inch' : (slot.takes[0].form as SlotForm),
    sizes: m2 ? [...m2.sizes] : NEW_SLOT.sizes,
    key: m2?.key ?? 'M',
    family: blade?.family ?? '',
    protocols: link('eMMC') ? 'eMMC' : link('SATA') && link('PCIe') ? 'SATA and PCIe' : link('PCIe') ? 'PCIe' : 'SATA',
    sataLink: link('SATA') ?? NEW_SLOT.sataLink,
    pcieLink: link('PCIe') ?? NEW_SLOT.pcieLink,
    drivers: (slot.drivers ?? []).join(', '),
    deviceId: slot.deviceId ?? '',
  }
}

/** The slot that the fields of a form describe. What is wrong in it is found where it is stored. */
export function slotOf(fields: SlotFields): Slot {
  const { id, form, sizes, key, family, protocols, sataLink, pcieLink } = fields
  const speaks: Slot['speaks'] =
    protocols === 'eMMC'
      ? [{ protocol: 'eMMC', link: 'emmc-hs400' }]
      : [
          ...(protocols === 'PCIe' ? [] : [{ protocol: 'SATA' as const, link: sataLink }]),
          ...(protocols === 'SATA' ? [] : [{ protocol: 'PCIe' as const, link: pcieLink }]),
        ]
  const takes = takesOf(form, sizes, key, family)
  return { id: id.trim(), takes, speaks, ...deviceOf(fields) }
}

/** Which drivers serve a device and what it says that it is, of what was typed; what was left empty is not known. */
export function deviceOf(typed: { drivers: string; deviceId: string }): Pick<Slot, 'drivers' | 'deviceId'> {
  const drivers = typed.drivers
    .split(',')
    .map((name) => name.trim())
    .filter(Boolean)
  const deviceId = typed.deviceId.trim().toUpperCase()
  return { ...(drivers.length > 0 ? { drivers } : {}), ...(deviceId === '' ? {} : { deviceId }) }
}

function takesOf(form: SlotForm, sizes: string[], key: 'B' | 'M', family: string): Opening[] {
  if (form === 'M.2') return [{ form, sizes: sizes as Extract<Opening, { form: 'M.2' }>['sizes'], key }]
  if (form === 'blade') return [{ form, family }]
  if (form === '2.5 and 3.5-inch') return [{ form: '2.5-inch' }, { form: '3.5-inch' }]
  return [{ form }]
}

export interface BodyFields {
  form: Body['form']
  size: string
  key: 'B' | 'M' | 'B+M'
  family: string
}

export function bodyFields(body: Body): BodyFields {
  const m2 = body.form === 'M.2' ? body : undefined
  return {
    form: body.form,
    size: m2?.size ?? '2280',
    key: m2?.key ?? 'M',
    family: body.form === 'blade' ? body.family : '',
  }
}

export function bodyOf({ form, size, key, family }: BodyFields): Body {
  if (form === 'M.2') return { form, size: size as Extract<Body, { form: 'M.2' }>['size'], key }
  return form === 'blade' ? { form, family } : { form }
}

/** Runs of sectors as one line of text: "2048, 4096+8", a first sector with how many there are. */
export function faultsText(runs: Drive['unreadable']): string {
  return runs.map(({ firstLba, count }) => (count === 1 ? `${firstLba}` : `${firstLba}+${count}`)).join(', ')
}

/** The runs of sectors that such a line names, or undefined where it names none. */
export function parseFaults(text: string): Drive['unreadable'] | undefined {
  const parts = text.split(',').map((part) => part.trim())
  if (parts.length === 1 && parts[0] === '') return []
  const runs = parts.map((part) => /^(\d{1,15})(?:\s*\+\s*(\d{1,9}))?$/.exec(part))
  if (runs.some((run) => !run || run[2] === '0')) return undefined
  return runs.map((run) => ({ firstLba: Number(run![1]), count: Number(run![2] ?? 1) }))
}
