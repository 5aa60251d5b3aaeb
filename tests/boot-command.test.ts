import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { readBytes } from '@/core/block/device'
import type { MemoryDevice } from '@/core/block/memory'
import { makeBiosDisk, makeSystemDisk } from '@/core/testing-disk'
import { imbarco, shaOfFile, sparseFile } from './support/image-files'

let folder: string
const at = (name: string) => path.join(folder, name)
const parse = (text: string) => JSON.parse(text)

async function fileOf(name: string, device: MemoryDevice): Promise<string> {
  const parts: [number, Uint8Array][] = []
  for (const { offset, length } of await device.mapped(0, device.size))
    parts.push([offset, await readBytes(device, offset, length)])
  return sparseFile(at(name), device.size, parts)
}

beforeAll(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-boot-'))
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

describe('imbarco trace and repair', () => {
  it('follow a start by UEFI for people and for programs, and leave the image as it is', async () => {
    const file = await fileOf('uefi.img', await makeSystemDisk())
    const before = shaOfFile(file)
    const told = imbarco('trace', file, '--firmware', 'uefi', '--driver', 'storahci')
    expect([told.code, told.out]).toEqual([
      0,
      expect.stringMatching(/Sign-in +passed +C: is this volume[^]*No link fails/),
    ])
    const { links, starts } = parse(imbarco('trace', file, '--firmware', 'uefi', '--json').out)
    expect(starts).toBe(true)
    expect(links.map((l: { id: string; state: string }) => `${l.id} ${l.state}`)).toEqual([
      'firmware passed',
      'table passed',
      'boot-partition passed',
      'loader passed',
      'settings passed',
      'system-volume passed',
      'driver unproved',
      'sign-in passed',
    ])
    expect(imbarco('trace', file, '--firmware', 'uefi', '--driver', 'stornvme').code).toBe(1)
    expect(imbarco('trace', file).code).toBe(2)
    expect(shaOfFile(file)).toBe(before)
  })

  it('mend a moved start-up sector by BIOS, once it was said what that changes', async () => {
    const device = await makeBiosDisk()
    const sector = (await readBytes(device, 2048 * 512, 512)).slice()
    sector.set([63, 0, 0, 0], 28)
    await device.write(2048 * 512, sector)
    const file = await fileOf('bios.img', device)
    const before = shaOfFile(file)
    const broken = imbarco('trace', file, '--firmware', 'bios', '--json')
    expect(broken.code).toBe(1)
    const failed = parse(broken.out).links.find((l: { state: string }) => l.state === 'failed')
    expect(failed).toMatchObject({ id: 'boot-partition', repairs: ['hidden-sectors'] })
    expect(failed.evidence).toMatch(/expected 2.048, found 63/)
    const dry = imbarco('repair', file, 'hidden-sectors', '--dry-run', '--json')
    expect(parse(dry.out)).toMatchObject({ state: 'planned', sectors: 1 })
    expect(shaOfFile(file)).toBe(before)
    expect(existsSync(`${file}.repair`)).toBe(false)
    expect(imbarco('repair', file, 'hidden-sectors').out).toMatch(/63 becomes 2.048[^]*Written and read back/)
    expect(imbarco('trace', file, '--firmware', 'bios').code).toBe(0)
    expect(JSON.parse(readFileSync(`${file}.repair`, 'utf8')).state).toBe('done')
    expect(parse(imbarco('repair', file, 'hidden-sectors', '--json').out).state).toBe('nothing')
  })

  it('say what they cannot do, and write nothing then', async () => {
    const file = await fileOf('whole.img', await makeSystemDisk())
    const made = imbarco('convert', file, at('whole.vhdx'))
    expect(made.code).toBe(0)
    expect(imbarco('repair', at('whole.vhdx'), 'backup-table').error).toMatch(/Only a raw image/)
    expect(imbarco('repair', file, 'luck').error).toMatch(/There is no repair "luck"/)
    expect(imbarco('repair', file, 'active-partition').error).toMatch(/Only an MBR/)
    expect(imbarco('repair', at('nothing.img'), 'backup-table').code).toBe(2)
    expect(imbarco('trace', at('nothing.img'), '--firmware', 'bios').code).toBe(2)
  })
})
