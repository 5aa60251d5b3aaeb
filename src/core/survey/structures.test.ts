import fc from 'fast-check'
import { beforeAll, describe, expect, it } from 'vitest'
import type { MemoryDevice } from '../block/memory'
import { OutOfRange } from '../block/device'
import { OverlayDevice } from '../block/overlay'
import { makeBiosDisk, makeLinuxDisk, makeSystemDisk, sha256 } from '../testing-disk'
import { sectorsWorthALook, viewSector } from './structures'
import { surveyDrive } from './survey'
import type { DriveSurvey } from './types'

let disks: Record<'uefi' | 'bios' | 'linux', { device: MemoryDevice; survey: DriveSurvey }>

beforeAll(async () => {
  const surveyed = async (device: MemoryDevice) => ({ device, survey: await surveyDrive(device, sha256) })
  disks = {
    uefi: await surveyed(await makeSystemDisk()),
    bios: await surveyed(await makeBiosDisk()),
    linux: await surveyed(await makeLinuxDisk()),
  }
})

const namesAt = async ({ device, survey }: (typeof disks)['uefi'], lba: number) =>
  (await viewSector(device, lba, survey)).structures.map((s) => s.name)

describe('sectors worth a look', () => {
  it('are the tables, the starts of volumes and both ends, each once and in order', () => {
    const { survey } = disks.uefi
    const sectors = sectorsWorthALook(survey)
    expect(sectors.map((s) => s.name)).toEqual([
      'Protective MBR',
      'GPT header',
      'GPT entries',
      ...survey.partitions.map((p) => `Start of ${p.title}`),
      'Backup entries',
      'Backup header',
    ])
    for (const disk of Object.values(disks)) {
      const lbas = sectorsWorthALook(disk.survey).map((s) => s.lba)
      expect(lbas).toEqual([...new Set(lbas)].sort((a, b) => a - b))
      expect(lbas.at(-1)).toBe(disk.device.size / 512 - 1)
    }
    expect(sectorsWorthALook(disks.bios.survey)[0]).toEqual({ name: 'First sector', lba: 0 })
  })

  it('hold what their names say', async () => {
    const [, header, entries] = sectorsWorthALook(disks.uefi.survey)
    expect(await namesAt(disks.uefi, 0)).toEqual(['MBR', 'Record 1', 'Record 2', 'Record 3', 'Record 4'])
    expect(await namesAt(disks.uefi, header.lba)).toEqual(['GPT header'])
    expect(await namesAt(disks.uefi, entries.lba)).toEqual(['Entry 1', 'Entry 2', 'Entry 3', 'Entry 4'])
    // The copy of the entries in front of the last sector is told the same way.
    const backup = sectorsWorthALook(disks.uefi.survey).find((s) => s.name === 'Backup entries')!
    expect(await namesAt(disks.uefi, backup.lba)).toEqual(['Entry 1', 'Entry 2', 'Entry 3', 'Entry 4'])
    const [esp, , system] = disks.uefi.survey.partitions
    expect(await namesAt(disks.uefi, esp.firstLba)).toEqual(['FAT boot sector'])
    expect(await namesAt(disks.uefi, system.firstLba)).toEqual(['NTFS boot sector'])
  })
})

describe('a sector that is looked at', () => {
  it('shows its fields with what the bytes say', async () => {
    const { device, survey } = disks.uefi
    const { structures, bytes, offsetBytes } = await viewSector(device, 1, survey)
    expect([bytes.length, offsetBytes]).toEqual([512, 512])
    const fields = structures[0].fields
    expect(fields.map((f) => f.offset)).toEqual(fields.map((f) => f.offset).sort((a, b) => a - b))
    const signature = fields.find((f) => f.offset === 0)!
    expect(signature.value).toMatch(/EFI PART|45 46 49 20/)
  })

  it('shows more than one sector where a structure is longer', async () => {
    const { device, survey } = disks.linux
    const { firstLba } = survey.partitions[1]
    const marked = new OverlayDevice(device)
    const start = new Uint8Array(4096)
    // The mark of an ext superblock, which lies 1024 bytes behind the start.
    start.set([0x53, 0xef], 1024 + 56)
    await marked.write(firstLba * 512, start)
    const { structures, bytes } = await viewSector(marked, firstLba, survey)
    expect(structures.map((s) => s.at)).toContain(1024)
    expect(bytes.length).toBeGreaterThanOrEqual(2048)
    expect(bytes.length % 512).toBe(0)
  })

  it('may lie anywhere on the drive and hold anything', async () => {
    const { device, survey } = disks.uefi
    const sectors = device.size / 512
    await fc.assert(
      fc.asyncProperty(
        fc.oneof(fc.nat(sectors - 1), fc.constantFrom(0, 1, 2, sectors - 1, sectors - 33)),
        fc.uint8Array({ minLength: 512, maxLength: 512 }),
        fc.constantFrom('', 'EFI PART', 'NXSB', 'LUKS'),
        async (lba, content, text) => {
          const damaged = new OverlayDevice(device)
          content.set(new TextEncoder().encode(text), text === 'NXSB' ? 32 : 0)
          await damaged.write(lba * 512, content)
          const { bytes, structures } = await viewSector(damaged, lba, survey)
          expect(bytes.length).toBeGreaterThanOrEqual(512)
          for (const { at, fields } of structures)
            for (const f of fields) expect(at + f.offset).toBeLessThanOrEqual(4096)
        },
      ),
    )
    await expect(viewSector(device, sectors, survey)).rejects.toThrow(OutOfRange)
    await expect(viewSector(device, -1, survey)).rejects.toThrow(OutOfRange)
  })
})
