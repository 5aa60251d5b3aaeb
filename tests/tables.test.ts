import { execFileSync } from 'node:child_process'
import { mkdtempSync, rmSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { readScheme } from '@/core/scheme'
import { convertFile } from '@/host/convert'
import { openHostImage } from '@/host/images'

// Partition tables made by the systems' own tools.

const MIB = 1024 * 1024
let folder: string
beforeAll(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-tables-'))
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

function blank(name: string, bytes: number): string {
  const file = path.join(folder, name)
  writeFileSync(file, '')
  truncateSync(file, bytes)
  return file
}

async function read(file: string, sectorSize?: 512 | 4096) {
  const image = await openHostImage(file, { sectorSize })
  try {
    return { reading: await readScheme(image.device), sectorSize: image.device.logicalSectorSize }
  } finally {
    await image.close()
  }
}

describe('tables made by other programs', () => {
  it('an MBR with logical partitions', async () => {
    const file = blank('mbr.img', 200 * MIB)
    const script = 'label: dos\nlabel-id: 0x7b3f0c11\n,20M,7,*\n,30M,83\n,,E\n,40M,7\n,10M,82\n,,b\n'
    execFileSync('/usr/sbin/sfdisk', ['-q', file], { input: script })
    const { reading } = await read(file)
    const dump = JSON.parse(execFileSync('/usr/sbin/sfdisk', ['-J', file], { encoding: 'utf8' })).partitiontable
    expect(reading?.findings).toEqual([])
    expect(reading?.partitions.map((p) => [p.firstLba, p.lastLba - p.firstLba + 1, p.mbr!.type.toString(16)])).toEqual(
      dump.partitions.map((p: { start: number; size: number; type: string }) => [p.start, p.size, p.type]),
    )
    expect(reading?.partitions.map((p) => p.number)).toEqual([1, 2, 3, 5, 6, 7])
  })

  it('a GPT with fewer and with more entries than usual', async () => {
    for (const entries of [56, 512]) {
      const file = blank(`gpt-${entries}.img`, 64 * MIB)
      const sgdisk = (...args: string[]) => execFileSync('/usr/sbin/sgdisk', [...args, file], { encoding: 'utf8' })
      sgdisk('-o')
      sgdisk('-S', String(entries))
      sgdisk('-n', '1:2048:+8M', '-t', '1:ef00', '-c', '1:boot', '-n', '40:0:+4M')
      const { reading } = await read(file)
      expect(reading?.findings).toEqual([])
      expect(reading?.scheme === 'gpt' && reading.gpt.table.entryCount).toBe(entries)
      expect(reading?.partitions.map((p) => [p.number, p.firstLba, p.name])).toEqual([
        [1, 2048, 'boot'],
        [40, 18432, ''],
      ])
    }
  })

  it('a GPT with sectors of 4096 bytes, found out from its bytes', async () => {
    const file = blank('gpt-4k.img', 256 * MIB)
    execFileSync('/usr/sbin/fdisk', ['-b', '4096', file], { input: 'g\nn\n1\n\n+100M\nn\n2\n\n\nw\n', stdio: 'pipe' })
    const { reading, sectorSize } = await read(file)
    expect(sectorSize).toBe(4096)
    expect(reading?.findings).toEqual([])
    expect(reading?.partitions.map((p) => (p.firstLba * sectorSize) / MIB)).toEqual([1, 101])
    // A format that does not say how long a sector is keeps the disk understood all the same.
    for (const to of ['qcow2', 'vhd', 'vhdx'] as const) {
      const made = path.join(folder, `gpt-4k.${to}`)
      await convertFile(file, made, { to, time: 0 })
      const again = await read(made)
      expect([to, again.sectorSize, again.reading?.partitions.length]).toEqual([to, 4096, 2])
    }
  })

  it('a GPT on a drive that grew has its backup in the wrong place', async () => {
    const file = blank('grown.img', 64 * MIB)
    execFileSync('/usr/sbin/sgdisk', ['-n', '1:2048:+8M', file])
    truncateSync(file, 128 * MIB)
    const { reading } = await read(file)
    expect(reading?.findings.map((f) => f.code)).toEqual(['gpt.backup-misplaced'])
    expect(reading?.partitions).toHaveLength(1)
  })
})
