import { constants } from 'node:fs'
import { open, readFile, rm } from 'node:fs/promises'
import path from 'node:path'
import * as z from 'zod'
import { fromBase64, toBase64 } from '@/core/bytes/base64'
import { type LoadOption, writeBootOrder, writeLoadOption } from '@/core/boot/load-option'
import { CoreError } from '@/core/errors'
import { ATTRIBUTES, GLOBAL, HERE, type Places } from './computer'

// What the firmware of this computer starts is kept in its variables, which the kernel shows as files: four bytes of
// attributes, then the value (UEFI Specification 2.10, sections 3.3 and 8.2).

/** Kept without power, seen at start and by the running system. */
const KEPT = Uint8Array.of(7, 0, 0, 0)

const Value = z.string().nullable()

/** Variables as they were and as they are to be, with their attributes, in base64; null where there is none. */
export const FirmwareChangeSchema = z.array(
  z.object({ name: z.string().regex(/^Boot([0-9A-F]{4}|Order)$/), before: Value, after: Value }),
)
export type FirmwareChange = z.infer<typeof FirmwareChangeSchema>

/** What has to be changed for an entry to be there, and for the order to be this. Nothing is written. */
export async function planFirmware(
  { id, ...option }: Required<LoadOption> & { readonly id: string },
  order: readonly string[],
  places: Places = HERE,
): Promise<FirmwareChange> {
  const change: FirmwareChange = []
  for (const [name, value] of [
    [`Boot${id}`, writeLoadOption(option)],
    ['BootOrder', writeBootOrder(order)],
  ] as const) {
    const before = await variable(name, places)
    const attributes = before?.subarray(0, ATTRIBUTES) ?? KEPT
    const after = toBase64(Buffer.concat([attributes, value]))
    const was = before === null ? null : toBase64(before)
    if (was !== after) change.push({ name, before: was, after })
  }
  return change
}

/**
 * Makes the variables as they are to be, and reads each one back. Rejects with CoreError where they are not as they were when
 * the change was planned, or the firmware does not take one; those before it are then as they were.
 */
export async function applyFirmware(change: FirmwareChange, places: Places = HERE): Promise<void> {
  for (const { name, before } of change)
    if (!same(await variable(name, places), before))
      throw new CoreError(`${name} of the firmware has changed meanwhile. Nothing was written to it.`)
  const written: FirmwareChange = []
  try {
    for (const one of change) {
      written.push(one)
      await store(one.name, one.after, places)
    }
  } catch (error) {
    for (const { name, before } of written.reverse()) await store(name, before, places).catch(() => {})
    throw error
  }
}

/**
 * Takes a change back, the last variable first, also one that was cut off in the middle. Rejects like `applyFirmware`, where
 * somebody has changed them since.
 */
export async function undoFirmware(change: FirmwareChange, places: Places = HERE): Promise<void> {
  const back: FirmwareChange = []
  for (const { name, before, after } of [...change].reverse())
    if (!same(await variable(name, places), before)) back.push({ name, before: after, after: before })
  await applyFirmware(back, places)
}

const fileOf = (name: string, { efi }: Places) => path.join(efi, `${name}-${GLOBAL}`)

async function variable(name: string, places: Places): Promise<Uint8Array | null> {
  return readFile(/* turbopackIgnore: true */ fileOf(name, places)).catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT') return null
    throw new CoreError(`${name} of the firmware cannot be read (${error.code}).`)
  })
}

const same = (bytes: Uint8Array | null, told: string | null) => (bytes === null ? null : toBase64(bytes)) === told

async function store(name: string, value: string | null, places: Places): Promise<void> {
  const file = fileOf(name, places)
  const refused = (error: NodeJS.ErrnoException): never => {
    if (error.code === 'ENOSPC') throw new CoreError('The firmware has no room left for its variables.')
    throw new CoreError(`The firmware does not take ${name} (${error.code}). That needs the rights of root.`)
  }
  if (value === null) await rm(file, { force: true }).catch(refused)
  else {
    const bytes = fromBase64(value)
    const handle = await open(file, constants.O_WRONLY | constants.O_CREAT, 0o644).catch(refused)
    try {
      // A variable is taken in one call, or not at all.
      const { bytesWritten } = await handle.write(bytes).catch(refused)
      if (bytesWritten < bytes.length) throw new CoreError(`The firmware took a part of ${name} only.`)
      await handle.truncate(bytes.length).catch(() => {})
    } finally {
      await handle.close()
    }
  }
  if (!same(await variable(name, places), value))
    throw new CoreError(`The firmware does not keep ${name} as it was written.`)
}
