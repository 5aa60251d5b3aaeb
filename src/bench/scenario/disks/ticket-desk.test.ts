import { mkdtempSync, rmSync, statSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { SliceDevice } from '@/core/block/slice'
import { GIB, MIB } from '@/core/bytes/size'
import { openFileSystem } from '@/core/filesystem'
import type { FileSystem } from '@/core/filesystem/port'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { sha256 } from '@/core/testing-disk'
import {
  checkFat,
  cutPartition,
  extractDigests,
  gdiskProblems,
  listFiles,
  sumOf,
} from '../../../../tests/support/independent'
import { SparseFileDevice } from '../../sparse-file'
import { capacityOf } from '@/core/things/capacity'
import { makeTicketDeskDisk } from './ticket-desk'

let folder: string
let drive: string
let device: SparseFileDevice
let survey: DriveSurvey

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-disk-'))
  drive = path.join(folder, 'drive.img')
  const made = await SparseFileDevice.create(drive, capacityOf(240))
  await makeTicketDeskDisk(made)
  await made.close()
  device = await SparseFileDevice.open(drive, { writable: false })
  survey = await surveyDrive(device, sha256)
})

afterAll(async () => {
  await device.close()
  rmSync(folder, { recursive: true, force: true })
})

async function open(number: number): Promise<FileSystem> {
  const { startBytes, sizeBytes } = survey.partitions.find((p) => p.number === number)!
  return (await openFileSystem(new SliceDevice(device, startBytes, sizeBytes)))!
}

function cut(number: number): string {
  const p = survey.partitions.find((partition) => partition.number === number)!
  return cutPartition(drive, { first: p.firstLba, last: p.lastLba }, path.join(folder, `p${number}.img`))
}

async function allFiles(volume: FileSystem): Promise<Map<string, number>> {
  const files = new Map<string, number>()
  const folders = ['/']
  while (folders.length > 0) {
    for (const entry of await volume.list(folders.pop()!)) {
      if (entry.kind === 'directory') folders.push(entry.path)
      else files.set(entry.path.slice(1), entry.sizeBytes)
    }
  }
  return files
}

describe("the ticket desk's disk", () => {
  it('has the full capacity and costs a few megabytes', () => {
    const { size, blocks } = statSync(drive)
    expect(size).toBe(240_057_409_536)
    expect(blocks * 512).toBeLessThan(40 * MIB)
  })

  it('is surveyed as the scenario tells it', () => {
    const [esp, reserved, system, recovery] = survey.partitions
    expect([esp.sizeBytes, reserved.sizeBytes, recovery.sizeBytes]).toEqual([100 * MIB, 16 * MIB, 650 * MIB])
    expect([esp.role, reserved.role, system.role, recovery.role]).toEqual(['boot', 'reserved', 'system', 'recovery'])
    expect(system.title).toBe('Harbour (C:)')
    expect(system.sizeBytes / GIB).toBeCloseTo(222.8, 1)
    expect(Math.floor(system.volume!.usedBytes / GIB)).toBe(201)
    expect(survey.findings.map((f) => f.severity)).toEqual(['note'])
  })

  it('has tables with which an independent reader finds nothing wrong', () => {
    expect(gdiskProblems(drive)).toBe('')
  })

  it('has volumes that an independent reader lists as we do', async () => {
    for (const number of [1, 3, 4]) {
      const theirs = listFiles(cut(number))
      const ours = await allFiles(await open(number))
      expect([...ours].sort()).toEqual([...theirs].sort())
      expect(ours.size).toBeGreaterThan(2)
    }
  })

  it('gives an independent reader the same contents', async () => {
    for (const [number, part] of [
      [1, 'EFI'],
      [3, 'Windows'],
      [3, 'Program Files'],
    ] as const) {
      const volume = await open(number)
      const theirs = extractDigests(cut(number), part, path.join(folder, `x${number}-${part}`))
      expect(theirs.size).toBeGreaterThan(4)
      for (const [file, digest] of theirs) expect([file, sumOf(await volume.readFile(file))]).toEqual([file, digest])
    }
  })

  it('has an EFI system partition that the FAT checker passes', () => {
    expect(checkFat(cut(1))).toMatch(/clusters$/m)
  })

  it('is made the same every time', async () => {
    const again = path.join(folder, 'again.img')
    const made = await SparseFileDevice.create(again, capacityOf(240))
    await makeTicketDeskDisk(made)
    const second = await surveyDrive(made, sha256)
    await made.close()
    expect(second).toEqual(survey)
  })
})
