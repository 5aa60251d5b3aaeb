import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterEach, expect, it } from 'vitest'
import { writeLoadOption } from '@/core/boot/load-option'
import { thisComputer } from './computer'

const GLOBAL = '8be4df61-93ca-11d2-aa0d-00e098032b8c'
let folder: string

afterEach(() => rmSync(folder, { recursive: true, force: true }))

/** Files as a kernel shows them, in a folder of their own. */
function laid(variables: Record<string, Uint8Array>) {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-computer-'))
  const [sys, efi] = [path.join(folder, 'sys'), path.join(folder, 'efivars')]
  const board = path.join(sys, 'class', 'dmi', 'id')
  const card = path.join(sys, 'class', 'net', 'eth0')
  for (const place of [board, path.join(card, 'device'), path.join(sys, 'class', 'net', 'lo')])
    mkdirSync(place, { recursive: true })
  writeFileSync(path.join(board, 'sys_vendor'), 'Brezza\n')
  writeFileSync(path.join(board, 'product_name'), 'T20\n')
  writeFileSync(path.join(card, 'speed'), '1000\n')
  writeFileSync(path.join(card, 'carrier'), '1\n')
  if (Object.keys(variables).length > 0) mkdirSync(efi)
  for (const [name, bytes] of Object.entries(variables))
    writeFileSync(path.join(efi, `${name}-${GLOBAL}`), Buffer.concat([Buffer.from([7, 0, 0, 0]), bytes]))
  return { sys, efi }
}

const ENTRY = {
  name: 'Windows Boot Manager',
  isActive: true,
  partition: { number: 1, guid: '7c1e0000-1111-4222-8333-444444444444', startLba: 2048n, sectors: 204_800n },
  path: '\\EFI\\Microsoft\\Boot\\bootmgfw.efi',
}

it('is read from its board, its cards and the variables of its firmware', async () => {
  const found = await thisComputer(
    laid({
      ...{ Boot0003: writeLoadOption(ENTRY), Boot0007: new Uint8Array(3) },
      ...{ BootOrder: Buffer.from([3, 0, 7, 0]), BootCurrent: Buffer.from([3, 0]), SecureBoot: Buffer.from([1]) },
    }),
  )
  expect(found).toMatchObject({
    ...{ maker: 'Brezza', model: 'T20', firmware: 'uefi', secureBoot: true },
    ...{ bootEntries: [{ id: '0003', ...ENTRY }], bootOrder: ['0003', '0007'], bootCurrent: '0003' },
    ...{ unreadable: ['Boot0007'], networkCards: [{ name: 'eth0', megabits: 1000, isUp: true }] },
  })
})

it('starts by BIOS where there are no such variables', async () => {
  expect(await thisComputer(laid({}))).toMatchObject({
    ...{ firmware: 'bios', secureBoot: null, bootEntries: [], bootOrder: [], bootCurrent: null },
  })
})
