import { execFileSync, spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { MIB } from '@/core/bytes/size'
import { readBytes } from '@/core/block/device'
import { pattern } from '@/core/testing'
import { makeBiosDisk, signedLoader } from '@/core/testing-disk'
import { imbarco, digestOfFile, sparseFile } from './support/image-files'
import { checkFat, cutPartition } from './support/independent'

// A system that starts by BIOS from an MBR goes to a drive with a GPT, and starts by UEFI.

const env = { ...process.env, PATH: `${process.env.PATH}:/usr/sbin:/sbin` }
let folder: string
let source: string
const at = (name: string) => path.join(folder, name)
const parse = (text: string) => JSON.parse(text)

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-to-gpt-'))
  source = at('bios.img')
  const device = await makeBiosDisk(33 * 2048, [
    { path: '/Windows/Boot/EFI/bootmgfw.efi', content: signedLoader(21) },
    { path: '/Windows/System32/winload.efi', content: pattern(72_000, 22) },
  ])
  const parts: [number, Uint8Array][] = []
  for (const { offset, length } of await device.mapped(0, device.size))
    parts.push([offset, await readBytes(device, offset, length)])
  sparseFile(source, device.size, parts)
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

describe('imbarco copy --scheme gpt of a system that starts by BIOS', () => {
  it('keeps room for an EFI system partition, which repair makes, and the start is followed by UEFI', async () => {
    const target = at('gpt.img')
    const before = digestOfFile(source)
    const copied = await imbarco('copy', source, target, '--target-size', '600MiB', '--scheme', 'gpt', '--json')
    expect([copied.code, parse(copied.out).verified]).toEqual([0, true])
    const trace = async () =>
      parse((await imbarco('trace', target, '--firmware', 'uefi', '--driver', 'storahci', '--json')).out)
    const made: string[] = []
    for (let stops = 0; stops < 6; stops++) {
      const failed = (await trace()).links.find((l: { state: string }) => l.state === 'failed')
      if (!failed) break
      const { code, error } = await imbarco(
        'repair',
        target,
        failed.repairs[0],
        '--firmware',
        'uefi',
        '--driver',
        'storahci',
      )
      expect([failed.id, code, error]).toEqual([failed.id, 0, ''])
      made.push(failed.repairs[0])
    }
    expect(made[0]).toBe('new-esp')
    expect((await trace()).starts).toBe(true)
    expect(digestOfFile(source)).toBe(before)
  })

  it('is sound for the programs that know such tables and volumes', () => {
    const target = at('gpt.img')
    expect(spawnSync('sgdisk', ['-v', target], { env, encoding: 'utf8' }).stdout).toMatch(/No problems found/)
    const listed = execFileSync('sgdisk', ['-p', target], { env, encoding: 'utf8' })
    const [, number, first, last] = /^\s+(\d+)\s+(\d+)\s+(\d+)\s.*EF00/m.exec(listed)!
    expect((Number(last) - Number(first) + 1) * 512).toBe(100 * MIB)
    expect(Number(number)).toBeGreaterThan(2)
    const esp = cutPartition(target, { first: Number(first), last: Number(last) }, at('esp.img'))
    expect(checkFat(esp)).not.toMatch(/differ|wrong|invalid|dirty/i)
    expect(execFileSync('mdir', ['-i', esp, '-/', '-b'], { env, encoding: 'utf8' })).toMatch(/EFI\/BOOT\/BOOTX64\.EFI/i)
  })
})
