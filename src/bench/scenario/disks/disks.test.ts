import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { SliceDevice } from '@/core/block/slice'
import { traceBoot } from '@/core/boot/trace'
import { driversAt } from '@/core/things/bodies'
import { GIB } from '@/core/bytes/size'
import { openFileSystem } from '@/core/filesystem'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { headingOf } from '@/core/survey/words'
import { sha256 } from '@/core/testing-disk'
import { cutPartition, gdiskProblems, listFiles, sfdiskPartitions } from '../../../../tests/support/independent'
import { openDrive } from '@/outside/open-drive'
import { SparseFileDevice } from '../../sparse-file'
import { SCENARIO_BENCH } from '../things'
import { DISK_MAKERS } from '.'

let folder: string
const surveys = new Map<string, DriveSurvey>()
const fileOf = (id: string) => path.join(folder, `${id}.img`)
const driveOf = (id: string) => SCENARIO_BENCH.drives.find((d) => d.id === id)!

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-disks-'))
  for (const [id, make] of Object.entries(DISK_MAKERS)) {
    const device = await SparseFileDevice.create(fileOf(id), driveOf(id).sizeBytes)
    await make(device)
    await device.close()
    const opened = await openDrive({ ...driveOf(id), file: fileOf(id), by: 'file' }, { writable: false })
    surveys.set(id, await surveyDrive(opened.device, sha256))
    await opened.close()
  }
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

const roles = (id: string) =>
  surveys.get(id)!.partitions.map((p) => [p.number, p.role, p.title, p.volume?.kind ?? 'none', p.volume?.state ?? ''])

describe('the drives of the scenario', () => {
  it('lighting desk: MBR, active system-reserved, C: and the logical D:', () => {
    const survey = surveys.get('lmp7-320')!
    expect([survey.scheme, survey.mbr]).toEqual([
      'mbr',
      expect.objectContaining({ diskSignature: '7b3f0c11', hasBootCode: true, activePartition: 1 }),
    ])
    expect(roles('lmp7-320')).toEqual([
      [1, 'boot', 'System Reserved', 'ntfs', 'clean'],
      [2, 'system', 'Lighting (C:)', 'ntfs', 'clean'],
      [3, 'extended', 'Extended', 'none', ''],
      [5, 'data', 'Shows', 'ntfs', 'clean'],
    ])
    const system = survey.partitions[1]
    expect([system.system?.name, system.system?.version]).toEqual(['Windows 7 Professional', 'build 7601'])
    expect(system.volume!.usedBytes / GIB).toBeCloseTo(96, 0)
    expect(sfdiskPartitions(fileOf('lmp7-320'))).toEqual(
      survey.partitions.map((p) => ({
        start: p.firstLba,
        size: p.lastLba - p.firstLba + 1,
        type: p.mbr!.type.toString(16),
      })),
    )
  })

  it('lighting desk: 41 sectors that no longer read, all of them in files', async () => {
    const { unreadable } = driveOf('lmp7-320')
    expect(unreadable.reduce((sum, run) => sum + run.count, 0)).toBe(41)
    const opened = await openDrive(
      { ...driveOf('lmp7-320'), file: fileOf('lmp7-320'), by: 'file' },
      { writable: false },
    )
    for (const { firstLba } of unreadable) {
      await expect(opened.device.read(firstLba * 512, new Uint8Array(512))).rejects.toThrow(/could not read/)
      const partition = surveys
        .get('lmp7-320')!
        .partitions.find((p) => p.volume && p.firstLba <= firstLba && p.lastLba >= firstLba)!
      const volume = (await openFileSystem(new SliceDevice(opened.device, partition.startBytes, partition.sizeBytes)))!
      const at = firstLba * 512 - partition.startBytes
      const hits: string[] = []
      const folders = ['/']
      while (folders.length > 0) {
        for (const entry of await volume.list(folders.pop()!)) {
          if (entry.kind === 'directory') folders.push(entry.path)
          else if ((await volume.fileExtents!(entry.path)).some((e) => e.offset <= at && at < e.offset + e.length))
            hits.push(entry.path)
        }
      }
      expect(hits).toHaveLength(1)
    }
    await opened.close()
  })

  it('logbook server: two drives with the system, Charts and Archive', () => {
    expect(roles('crh5-500').map(([, role, title]) => `${role} ${title}`)).toEqual([
      'boot EFI system',
      'reserved Reserved',
      'recovery Recovery',
      'system Bridge (C:)',
      'data Charts',
    ])
    expect(surveys.get('crh5-500')!.partitions[3].system).toMatchObject({
      name: 'Windows Server 2019 Standard',
      version: '1809, build 17763',
      versionFrom: '/Windows/System32/config/SOFTWARE',
    })
    expect(roles('crh5-1000').at(-1)).toEqual([2, 'data', 'Archive', 'ntfs', 'clean'])
  })

  it('field laptop: an encrypted system volume, known as such', () => {
    const survey = surveys.get('osn1-512')!
    const system = survey.partitions[2]
    expect([system.role, system.volume?.kind, system.volume?.encrypted, system.volume?.depth]).toEqual([
      'system',
      'bitlocker',
      true,
      'sealed',
    ])
    expect(system.volume?.label).toMatch(/^FIELD-LAPTOP/)
    expect(system.volume?.usedBytes).toBe(system.sizeBytes)
    expect(headingOf(survey)).toMatch(/is encrypted$/)
  })

  it('editing computer: two systems, HFS+ beside NTFS, one of them asleep', () => {
    const survey = surveys.get('lmb1-256')!
    expect(
      survey.partitions.flatMap((p) => (p.system ? [[p.volume!.kind, p.system.name, p.system.version]] : [])),
    ).toEqual([
      ['hfsplus', 'macOS', '10.13.6, build 17G14042'],
      ['ntfs', 'Windows 10 Pro', '22H2, build 19045'],
    ])
    expect(survey.partitions[3].idleFiles).toContainEqual({
      path: '/hiberfil.sys',
      kind: 'hibernation',
      sizeBytes: 6400 * 1024 * 1024,
      asleep: true,
    })
    expect(survey.partitions[3].findings.map((f) => f.code)).toEqual(['system.hibernated'])
  })

  it('survey office: a system whose hibernation file is not in use', () => {
    const { idleFiles, system } = surveys.get('oss1-128')!.partitions[2]
    expect(idleFiles.map((f) => [f.kind, f.asleep])).toEqual([
      ['page', false],
      ['hibernation', false],
    ])
    expect(system?.version).toBe('21H2, build 19044')
  })

  it('choir: an old drive whose partition is off 4 KiB', () => {
    const [choir] = surveys.get('crh2-250')!.partitions
    expect(choir.findings.map((f) => f.code)).toEqual(['partition.unaligned'])
  })

  it('start in the computers they are in', async () => {
    const started: string[] = []
    for (const computer of SCENARIO_BENCH.computers) {
      const inside = SCENARIO_BENCH.drives.filter(
        (d) => d.place.kind === 'slot' && d.place.computerId === computer.id && surveys.has(d.id),
      )
      const opened = []
      for (const drive of inside) {
        const { device, close } = await openDrive({ ...drive, file: fileOf(drive.id), by: 'file' }, { writable: false })
        const slot = computer.slots.find((s) => drive.place.kind === 'slot' && s.id === drive.place.slot)!
        opened.push({
          close,
          drive: { driveId: drive.id, name: drive.model, slot: slot.id, device, drivers: driversAt(slot, drive) },
        })
      }
      if (opened.length === 0) continue
      const trace = await traceBoot(
        computer.firmware,
        opened.map((o) => o.drive),
        undefined,
        sha256,
      )
      expect([computer.id, trace.links.find((l) => l.state === 'failed')]).toEqual([computer.id, undefined])
      started.push(computer.id)
      for (const { close } of opened) await close()
    }
    expect(started).toEqual(
      expect.arrayContaining(['lighting-desk', 'logbook-server', 'field-laptop', 'editing-computer']),
    )
  })

  it('are read by other programs as they are here: tables, HFS+ and NTFS files', () => {
    for (const id of ['osn1-512', 'lmb1-256', 'crh5-500', 'crh5-1000', 'oss1-128', 'lmt4-4000']) {
      expect([id, gdiskProblems(fileOf(id))]).toEqual([id, ''])
    }
    const cut = (id: string, index: number) => {
      const { firstLba, lastLba } = surveys.get(id)!.partitions[index]
      return cutPartition(fileOf(id), { first: firstLba, last: lastLba }, path.join(folder, `${id}-${index}.part`))
    }
    const mac = listFiles(cut('lmb1-256', 1))
    expect(mac.size).toBeGreaterThan(200)
    expect(mac.get('Montage/private/var/vm/sleepimage')).toBe(2048 * 1024 * 1024)
    expect(listFiles(cut('lmb1-256', 3)).get('hiberfil.sys')).toBe(6400 * 1024 * 1024)
    expect(listFiles(cut('lmp7-320', 3)).size).toBeGreaterThan(30)
  })
})
