import * as z from 'zod'
import { DeviceIdSchema } from '../drivers/device'
import { line } from '../words-schema'
import { DRIVERS_OF } from '../survey/known-systems'
import { LinkIdSchema } from './links'

/** Sizes of M.2 modules: width and length in millimetres run together, as the trade writes them. */
export const M2_SIZES = ['2230', '2242', '2260', '2280', '22110'] as const
export const M2SizeSchema = z.enum(M2_SIZES)

/** The outer form of a drive: what decides where it goes mechanically. */
export const BodySchema = z.discriminatedUnion('form', [
  z.object({ form: z.literal('2.5-inch') }),
  z.object({ form: z.literal('3.5-inch') }),
  z.object({ form: z.literal('M.2'), size: M2SizeSchema, key: z.enum(['B', 'M', 'B+M']) }),
  /** A maker's own module; `family` says which of them are alike. */
  z.object({ form: z.literal('blade'), family: line().trim().min(1).max(40) }),
  /** Soldered onto the board of its computer, which it never leaves. */
  z.object({ form: z.literal('built-in') }),
  /** An image that a virtual machine has as its disk. */
  z.object({ form: z.literal('virtual') }),
])
export type Body = z.infer<typeof BodySchema>

export const ProtocolSchema = z.enum(['SATA', 'PCIe', 'eMMC'])
export type Protocol = z.infer<typeof ProtocolSchema>

/** A form that a slot or a bay takes. */
export const OpeningSchema = z.discriminatedUnion('form', [
  z.object({ form: z.literal('2.5-inch') }),
  z.object({ form: z.literal('3.5-inch') }),
  z.object({ form: z.literal('M.2'), sizes: z.array(M2SizeSchema).min(1), key: z.enum(['B', 'M']) }),
  z.object({ form: z.literal('blade'), family: line().trim().min(1).max(40) }),
  z.object({ form: z.literal('built-in') }),
  z.object({ form: z.literal('virtual') }),
])
export type Opening = z.infer<typeof OpeningSchema>

/** A slot of a computer, or a bay of a dock: the forms it takes, and the link it gives for each protocol. */
export const SlotSchema = z.object({
  id: line().trim().min(1).max(40),
  takes: z.array(OpeningSchema).min(1).max(6),
  speaks: z
    .array(z.object({ protocol: ProtocolSchema, link: LinkIdSchema }))
    .min(1)
    .max(2),
  /** Drivers that serve its controller, by their service names; the usual ones of its protocol where none is named. */
  drivers: z.array(line().min(1).max(40)).max(8).optional(),
  /** What its controller says that it is. */
  deviceId: DeviceIdSchema.optional(),
})
export type Slot = z.infer<typeof SlotSchema>

/** What is known of a drive where it is asked whether it goes in somewhere. */
export interface Fitted {
  readonly body: Body
  readonly protocol: Protocol
}

/** Why something does not go in: which rule says so, and the sentence for it. */
export interface Misfit {
  readonly rule: 'form' | 'family' | 'size' | 'key' | 'protocol' | 'bracket'
  readonly sentence: string
}

/** Drivers of a system that serve the controller a drive sits at, by their service names. */
export function driversAt(slot: Slot | undefined, { protocol }: Pick<Fitted, 'protocol'>): readonly string[] {
  return slot?.drivers ?? DRIVERS_OF[protocol]
}

const KEY_WORDS = { B: 'B key', M: 'M key', 'B+M': 'B and M key' } as const

/** A form in words: `M.2 2280, M key`. */
export function bodyWords(body: Body): string {
  if (body.form === 'M.2') return `M.2 ${body.size}, ${KEY_WORDS[body.key]}`
  if (body.form === 'virtual') return 'virtual disk'
  if (body.form === 'built-in') return 'built-in storage'
  return body.form === 'blade' ? `${body.family} blade` : body.form
}

/** Form and protocol: `2.5-inch SATA`, `M.2 2280, M key, PCIe`. */
export function fittedWords({ body, protocol }: Fitted): string {
  if (body.form === 'virtual') return bodyWords(body)
  return body.form === '2.5-inch' || body.form === '3.5-inch'
    ? `${bodyWords(body)} ${protocol}`
    : `${bodyWords(body)}, ${protocol}`
}

/** What a slot takes: `2.5-inch or 3.5-inch SATA`, `M.2 up to 2280, M key, PCIe`. */
export function slotWords({ takes, speaks }: Slot): string {
  const forms = takes.map((t) => {
    if (t.form === 'blade') return `${t.family} blade`
    if (t.form === 'virtual') return 'virtual disk'
    if (t.form === 'built-in') return 'what is built in'
    if (t.form !== 'M.2') return t.form
    return `M.2 ${t.sizes.length === 1 ? t.sizes[0] : `${t.sizes[0]} to ${t.sizes.at(-1)}`}, ${KEY_WORDS[t.key]}`
  })
  if (takes.every((t) => t.form === 'virtual')) return 'virtual disks'
  const protocols = speaks.map((s) => s.protocol).join(' or ')
  const plain = takes.every((t) => t.form === '2.5-inch' || t.form === '3.5-inch')
  return `${forms.join(' or ')}${plain ? ' ' : ', '}${protocols}`
}

/**
 * Why a drive does not go into a slot or bay, or undefined when it does. Only form and protocol count here;
 * whether something else is in it is asked elsewhere. `brackets` is how many 2.5 to 3.5 inch brackets are free.
 */
export function whyNotInto(drive: Fitted, slot: Slot, brackets: number): Misfit | undefined {
  const { body } = drive
  const misfit = formMisfit(body, slot, brackets)
  if (misfit) return misfit
  if (slot.speaks.some((s) => s.protocol === drive.protocol)) return undefined
  const only = slot.speaks.map((s) => s.protocol).join(' and ')
  const place = body.form === 'M.2' ? 'This M.2 slot' : 'It'
  return { rule: 'protocol', sentence: `${place} is ${only} only, the drive is ${drive.protocol} only.` }
}

function formMisfit(body: Body, slot: Slot, brackets: number): Misfit | undefined {
  const openings = slot.takes
  if (body.form === 'M.2') {
    const modules = openings.filter((t) => t.form === 'M.2')
    if (modules.length === 0) return wrongForm(body, slot)
    if (!modules.some((t) => t.sizes.includes(body.size))) {
      const longest = modules[0].sizes.at(-1)
      return {
        rule: 'size',
        sentence: `It takes M.2 ${modules[0].sizes.join(', ')}; the drive is ${body.size}${Number(body.size) > Number(longest) ? ', too long' : ''}.`,
      }
    }
    if (!modules.some((t) => t.sizes.includes(body.size) && (body.key === t.key || body.key === 'B+M'))) {
      return { rule: 'key', sentence: `Its key is ${modules[0].key}, the drive is cut for ${body.key}.` }
    }
    return undefined
  }
  if (body.form === 'blade') {
    const blades = openings.filter((t) => t.form === 'blade')
    if (blades.length === 0) return wrongForm(body, slot)
    if (blades.some((t) => t.family === body.family)) return undefined
    return { rule: 'family', sentence: `It takes ${blades[0].family} blades, the drive is a ${body.family} blade.` }
  }
  if (openings.some((t) => t.form === body.form)) return undefined
  if (body.form === '2.5-inch' && openings.some((t) => t.form === '3.5-inch')) {
    return brackets > 0
      ? undefined
      : { rule: 'bracket', sentence: 'A 3.5-inch bay needs the bracket, and none is free.' }
  }
  return wrongForm(body, slot)
}

function wrongForm(body: Body, slot: Slot): Misfit {
  return { rule: 'form', sentence: `It takes ${slotWords(slot)}, the drive is ${bodyWords(body)}.` }
}

/** True when a 2.5-inch drive needs a bracket to sit in this slot. */
export function needsBracket(body: Body, slot: Slot): boolean {
  return (
    body.form === '2.5-inch' &&
    !slot.takes.some((t) => t.form === '2.5-inch') &&
    slot.takes.some((t) => t.form === '3.5-inch')
  )
}

/** The link a slot gives a drive; undefined when it does not speak its protocol. */
export function linkIn(drive: Fitted, slot: Slot) {
  return slot.speaks.find((s) => s.protocol === drive.protocol)?.link
}
