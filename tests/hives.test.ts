import { execFileSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { deviceBytes, ELEMENTS, elementPath, LETTER_C, makeStore, makeSystemHive, readStore } from '@/core/boot/store'
import { HiveEditor } from '@/core/registry/edit'
import { Hive } from '@/core/registry/hive'

const ENTRY = 'c2a4e6f8-1b3d-4a5c-8e7f-9d0b2c4e6a81'
const DEVICE = { scheme: 'mbr', signature: '7b3f0c11', offset: 1048576 } as const
let folder: string
const at = (name: string) => path.join(folder, name)
const open = (bytes: Uint8Array) =>
  Hive.open((offset, length) => Promise.resolve(bytes.subarray(offset, offset + length)), bytes.length)

/** What an independent program says to these commands on a hive. */
function hivexsh(file: string, commands: string, ...options: string[]): string {
  return execFileSync('hivexsh', [...options, file], { input: commands, encoding: 'utf8' })
}

beforeAll(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-hives-'))
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

describe('hives and an independent program', () => {
  it('agree on a store that was made, and on one that was changed', async () => {
    const entries = [{ id: ENTRY, description: 'Windows 7', path: '\\Windows\\system32\\winload.exe', device: DEVICE }]
    const made = makeStore({ managerDevice: DEVICE, entries }, 1n)
    writeFileSync(at('BCD'), made)
    const key = `cd \\${elementPath(ENTRY, ELEMENTS.description)}\n`
    expect(hivexsh(at('BCD'), `${key}lsval Element\n`)).toContain('Windows 7')
    const editor = await HiveEditor.open(made)
    const moved = { ...DEVICE, offset: 105 * 1048576 }
    await editor.set((await editor.key(elementPath(ENTRY, ELEMENTS.systemDevice)))!, 'Element', deviceBytes(moved))
    await editor.set((await editor.key(elementPath(ENTRY, ELEMENTS.description)))!, 'Element', 'A name that is longer')
    await editor.set((await editor.key('Description'))!, 'Added', 7)
    writeFileSync(at('BCD'), editor.done(2n))
    expect(hivexsh(at('BCD'), `${key}lsval Element\n`)).toContain('A name that is longer')
    const device = hivexsh(at('BCD'), `cd \\${elementPath(ENTRY, ELEMENTS.systemDevice)}\nlsval\n`)
    expect(device.trim()).toBe(
      `"Element"=hex(3):${[...deviceBytes(moved)].map((b) => b.toString(16).padStart(2, '0')).join(',')}`,
    )
    expect(hivexsh(at('BCD'), 'cd \\Description\nlsval\n')).toMatch(/"Added"=dword:00000007/)
    // It may go on writing what was written here, and what it writes is read here.
    hivexsh(at('BCD'), 'cd \\Description\nsetval 1\nTold\nstring:by the other\ncommit\n', '-w')
    const hive = await open(readFileSync(at('BCD')))
    expect(await hive.text((await hive.key('Description'))!, 'Told')).toBe('by the other')
    const { standard } = await readStore(hive)
    expect(standard).toMatchObject({ id: ENTRY, description: 'A name that is longer', systemDevice: moved })
  })

  it('agree on a system’s own settings', async () => {
    const system = makeSystemHive({ system: DEVICE, drivers: { storahci: 3, disk: 0 } }, 1n)
    const editor = await HiveEditor.open(system)
    await editor.set((await editor.key('ControlSet001\\Services\\storahci'))!, 'Start', 0)
    writeFileSync(at('SYSTEM'), editor.done(2n))
    const start = hivexsh(at('SYSTEM'), 'cd \\ControlSet001\\Services\\storahci\nlsval\n')
    expect(start).toMatch(/"Start"=dword:00000000/)
    expect(start).toMatch(/storahci.sys/)
    expect(hivexsh(at('SYSTEM'), 'cd \\MountedDevices\nlsval\n')).toContain(LETTER_C.replaceAll('\\', '\\\\'))
  })

  it('agree on keys that were made and taken out', async () => {
    const system = makeSystemHive({ system: DEVICE, drivers: { storahci: 3, disk: 0, old: 0 } }, 1n)
    const editor = await HiveEditor.open(system, { spareBytes: 4000 })
    for (let i = 0; i < 20; i++) await editor.make(`ControlSet001\\Services\\made ${i}\\Parameters`, 2n)
    await editor.set(await editor.make('ControlSet001\\Services\\trmst9', 2n), 'Start', 0)
    await editor.removeKey('ControlSet001\\Services\\old')
    writeFileSync(at('MADE'), editor.done(2n))
    const services = hivexsh(at('MADE'), 'cd \\ControlSet001\\Services\nls\n').trim().split('\n')
    const made = Array.from({ length: 20 }, (_, i) => `made ${i}`)
    expect(services.sort()).toEqual([...made, 'disk', 'storahci', 'trmst9'].sort())
    expect(hivexsh(at('MADE'), 'cd \\ControlSet001\\Services\\trmst9\nlsval\n')).toMatch(/"Start"=dword:00000000/)
    expect(hivexsh(at('MADE'), 'cd \\ControlSet001\\Services\\made 7\nls\n').trim()).toBe('Parameters')
    // It goes on from there: a key of its own, and ours taken out.
    hivexsh(
      at('MADE'),
      'cd \\ControlSet001\\Services\nadd theirs\ncd \\ControlSet001\\Services\\trmst9\ndel\ncommit\n',
      '-w',
    )
    const hive = await open(readFileSync(at('MADE')))
    expect(await hive.key('ControlSet001\\Services\\theirs')).toBeDefined()
    expect(await hive.key('ControlSet001\\Services\\trmst9')).toBeUndefined()
  })
})
