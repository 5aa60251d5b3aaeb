import { mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterEach, beforeEach, expect, it } from 'vitest'
import { writeLoadOption } from '@/core/boot/load-option'
import { GLOBAL, type Places, thisComputer } from './computer'
import { applyFirmware, planFirmware, undoFirmware } from './firmware'

const ENTRY = {
  name: 'Windows Boot Manager',
  isActive: true,
  partition: { number: 1, guid: '7c1e0000-1111-4222-8333-444444444444', startLba: 2048n, sectors: 204_800n },
  path: '\\EFI\\Microsoft\\Boot\\bootmgfw.efi',
}
const OTHER = { ...ENTRY, partition: { ...ENTRY.partition, guid: '7c1e0000-1111-4222-8333-555555555555' } }

let places: Places

/** Variables as the kernel shows them, in a folder of their own. */
beforeEach(() => {
  const efi = mkdtempSync(path.join(tmpdir(), 'imbarco-efi-'))
  places = { sys: efi, efi }
  put('Boot0003', writeLoadOption(OTHER))
  put('BootOrder', Uint8Array.of(3, 0, 7, 0))
})
afterEach(() => rmSync(places.efi, { recursive: true, force: true }))

const put = (name: string, value: Uint8Array) =>
  writeFileSync(path.join(places.efi, `${name}-${GLOBAL}`), Buffer.concat([Buffer.from([7, 0, 0, 0]), value]))
const all = () => {
  const names = readdirSync(places.efi).sort()
  return names.map((name) => [name, readFileSync(path.join(places.efi, name), 'hex')])
}

it('gets an entry and its order, which are read back as they were meant', async () => {
  const change = await planFirmware({ id: '0004', ...ENTRY }, ['0004', '0003'], places)
  expect(change.map((c) => c.name)).toEqual(['Boot0004', 'BootOrder'])
  await applyFirmware(change, places)
  const { bootEntries, bootOrder } = await thisComputer(places)
  expect(bootEntries.find((e) => e.id === '0004')).toEqual({ id: '0004', ...ENTRY })
  expect(bootOrder).toEqual(['0004', '0003'])
  // What is there already asks for nothing more.
  expect(await planFirmware({ id: '0004', ...ENTRY }, ['0004', '0003'], places)).toEqual([])
})

it('is byte for byte what it was once that is taken back', async () => {
  const before = all()
  for (const id of ['0003', '0004']) {
    const change = await planFirmware({ id, ...ENTRY }, [id], places)
    await applyFirmware(change, places)
    expect(all()).not.toEqual(before)
    await undoFirmware(change, places)
    expect(all()).toEqual(before)
  }
})

it('is what it was also after a cut in the middle', async () => {
  const before = all()
  const change = await planFirmware({ id: '0004', ...ENTRY }, ['0004'], places)
  await applyFirmware(change.slice(0, 1), places)
  await undoFirmware(change, places)
  expect(all()).toEqual(before)
})

it('is left alone where somebody changed it meanwhile, or since', async () => {
  const change = await planFirmware({ id: '0003', ...ENTRY }, ['0003'], places)
  put('BootOrder', Uint8Array.of(9, 0))
  const before = all()
  await expect(applyFirmware(change, places)).rejects.toThrow(/has changed meanwhile/)
  expect(all()).toEqual(before)
  const again = await planFirmware({ id: '0003', ...ENTRY }, ['0003'], places)
  await applyFirmware(again, places)
  put('Boot0003', writeLoadOption({ ...OTHER, name: 'Another' }))
  const since = all()
  await expect(undoFirmware(again, places)).rejects.toThrow(/has changed meanwhile/)
  expect(all()).toEqual(since)
})

it('says where there is none to be written, with nothing changed', async () => {
  const change = await planFirmware({ id: '0004', ...ENTRY }, ['0004'], places)
  rmSync(places.efi, { recursive: true })
  await expect(applyFirmware(change, places)).rejects.toThrow(/has changed meanwhile/)
})
