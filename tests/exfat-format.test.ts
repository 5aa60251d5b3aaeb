import { execFileSync, spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { GIB, MIB } from '@/core/bytes/size'
import { openFileSystem } from '@/core/filesystem'
import { formatExfat } from '@/core/filesystem/exfat/format'
import { RawFile } from '@/host/raw-file'

const env = { ...process.env, PATH: `${process.env.PATH}:/usr/sbin:/sbin` }
let folder: string

beforeAll(() => void (folder = mkdtempSync(path.join(tmpdir(), 'imbarco-exfat-'))))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

describe('a new exFAT volume', () => {
  it.each([
    ['16 MiB', 16 * MIB, 512, 'Nord'],
    ['a size of no whole clusters', 700 * MIB + 1536, 512, ''],
    ['200 GiB with sectors of 4096 bytes', 200 * GIB, 4096, 'GRADE'],
  ] as const)('of %s is sound for its own checker, empty and of its label', async (_, bytes, sector, label) => {
    const name = path.join(folder, 'volume.img')
    rmSync(name, { force: true })
    const file = await RawFile.create(name, bytes, sector)
    await formatExfat(file, { label, serial: 0x6a1f20c4, startSector: 2048 })
    const volume = (await openFileSystem(file))!
    expect([volume.kind, volume.label, volume.state]).toEqual(['exfat', label, 'clean'])
    expect(await volume.list('/')).toEqual([])
    await file.close()
    if (sector === 512) {
      expect(spawnSync('fsck.exfat', ['-n', name], { env, encoding: 'utf8' })).toMatchObject({ status: 0 })
      // The program ends badly where there is none to tell.
      if (label === '') return
      expect(execFileSync('exfatlabel', [name], { env, encoding: 'utf8' })).toMatch(
        new RegExp(`label: ?${label}$`, 'm'),
      )
    }
  })

  it('is refused where it has no room, or a label that none can have', async () => {
    const file = await RawFile.create(path.join(folder, 'small.img'), MIB, 512)
    const about = { serial: 1, startSector: 0 }
    await expect(formatExfat(file, { ...about, label: '' })).rejects.toThrow(/too small/)
    await expect(formatExfat(file, { ...about, label: 'x'.repeat(12) })).rejects.toThrow(/11/)
    await file.close()
  })
})
