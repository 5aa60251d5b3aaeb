import { existsSync, mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { makeLightingDeskDisk } from '@/bench/scenario/disks/lighting-desk'
import { SparseFileDevice } from '@/bench/sparse-file'
import { readBytes } from '@/core/block/device'
import { SliceDevice } from '@/core/block/slice'
import { type FileSystem, openFileSystem } from '@/core/filesystem'
import { surveyDrive } from '@/core/survey/survey'
import type { PartitionSurvey } from '@/core/survey/types'
import { makeSystemDisk, sha256 } from '@/core/testing-disk'
import { openHostImage } from '@/host/images'
import { cutPartition, extractDigests, gdiskProblems, listFiles, sfdiskPartitions } from './support/independent'
import { imbarco, sparseFile } from './support/image-files'
import { capacityOf } from '@/core/things/capacity'

const MIB = 1024 * 1024
let folder: string
let disk: string
const at = (name: string) => path.join(folder, name)
const parse = (text: string) => JSON.parse(text)

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-fit-'))
  disk = at('disk.img')
  const device = await makeSystemDisk()
  const parts: [number, Uint8Array][] = []
  for (const { offset, length } of await device.mapped(0, device.size)) {
    parts.push([offset, await readBytes(device, offset, length)])
  }
  sparseFile(disk, device.size, parts)
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

describe('imbarco fit', () => {
  it('shows where everything would go, for people and for programs', async () => {
    const people = await imbarco('fit', disk, '--target-size', String(900 * MIB))
    expect([people.code, people.error]).toEqual([0, ''])
    expect(people.out).toMatch(/It fits, with 5\d\d(\.\d)? MiB to spare\. Harbour \(C:\) grows/)
    const { code, out } = await imbarco(
      'fit',
      disk,
      '--target-size',
      '900MiB',
      '--rule',
      '3=share',
      '--rule',
      '4=keep',
      '--json',
    )
    expect(code).toBe(0)
    const report = parse(out)
    expect(report.fits).toBe(true)
    expect(report.partitions.map((p: { number: number; rule: string }) => [p.number, p.rule])).toEqual([
      [1, 'keep'],
      [2, 'keep'],
      [3, 'share'],
      [4, 'keep'],
    ])
  })

  it('ends with 1 when it does not fit, with what is missing and what would fit', async () => {
    const { code, out } = await imbarco('fit', disk, '--target-size', '300MiB', '--rule', '3=keep', '--json')
    expect(code).toBe(1)
    const report = parse(out)
    expect(report.obstacles[0]).toMatchObject({ code: 'too-small', missingBytes: expect.any(Number) })
    expect(report.nearest).toBe('Harbour (C:) takes what is left')
    expect((await imbarco('fit', disk, '--target-size', '300MiB', '--rule', '3=keep')).out).toMatch(
      /This would fit: Harbour/,
    )
    const other = await imbarco('fit', disk, '--target-size', '900MiB', '--sector-size', '4096')
    expect([other.code, other.out]).toEqual([1, expect.stringMatching(/sectors of 4096 bytes/)])
  })

  it.each([
    [['--rule', 'three=fill'], /such as 3=fill/],
    [['--rule', '9=fill'], /no partition 9/],
    [['--rule', '3=-5'], /is no size/],
    [['--target-size', '-100'], /is no size/],
    [['--target-size', 'much'], /is no size/],
    [['--reserve', '80'], /0 to 50/],
  ])('%j is wrong use', async (options, sentence) => {
    const { code, error } = await imbarco('fit', disk, ...options)
    expect([code, error]).toEqual([2, expect.stringMatching(sentence)])
  })
})

describe('imbarco copy', () => {
  it.each(['img', 'qcow2', 'vhdx', 'vhd'])(
    'onto a larger %s, read back, and the same for other readers',
    async (format) => {
      const target = at(`larger.${format}`)
      const { code, out, error } = await imbarco('copy', disk, target, '--target-size', '900MiB', '--json')
      expect(code, error).toBe(0)
      expect(parse(out)).toMatchObject({ fits: true, verified: true, sizeBytes: 900 * MIB })
      const survey = parse((await imbarco('survey', target, '--json')).out)
      expect(survey.findings.filter((f: { severity: string }) => f.severity !== 'note')).toEqual([])
      expect(survey.partitions[2].lengthBytes).toBeGreaterThan(700 * MIB)
      if (format === 'img') expect(gdiskProblems(target)).toBe('')
      expect((await imbarco('cat', target, '3', '/Windows/notes.txt')).out).toBe(
        (await imbarco('cat', disk, '3', '/Windows/notes.txt')).out,
      )
    },
  )

  it('onto the smallest that its files need', async () => {
    const target = at('smaller.img')
    const { code, out } = await imbarco('copy', disk, target, '--target-size', '240MiB', '--json')
    expect([code, parse(out).fits]).toEqual([0, true])
    const { first, last } = { first: parse(out).partitions[2].firstSector, last: parse(out).partitions[2].lastSector }
    const volume = cutPartition(target, { first, last }, at('smaller-c.img'))
    expect(extractDigests(volume, 'Windows', at('smaller-out')).size).toBe(6)
  })

  it('of the same size is the same disk, and with every sector the same bytes', async () => {
    expect((await imbarco('copy', disk, at('same.img'))).code).toBe(0)
    expect((await imbarco('compare', disk, at('same.img'))).code).toBe(0)
    expect((await imbarco('copy', disk, at('every.qcow2'), '--every-sector')).code).toBe(0)
    expect((await imbarco('compare', disk, at('every.qcow2'))).code).toBe(0)
    expect((await imbarco('copy', disk, at('none.img'), '--every-sector', '--target-size', '900MiB')).code).toBe(2)
  })

  it('replaces what is there only when told to, and never its own source', async () => {
    writeFileSync(at('mine.img'), 'mine')
    const refused = await imbarco('copy', disk, at('mine.img'))
    expect([refused.code, refused.error]).toEqual([2, expect.stringMatching(/there already: mine\.img/)])
    expect(readFileSync(at('mine.img'), 'utf8')).toBe('mine')
    expect((await imbarco('copy', disk, at('mine.img'), '--overwrite')).code).toBe(0)
    expect(statSync(at('mine.img')).size).toBe(400 * MIB)
    const own = await imbarco('copy', disk, disk, '--overwrite')
    expect([own.code, own.error]).toEqual([2, expect.stringMatching(/is the source itself/)])
    const small = await imbarco('copy', disk, at('none.img'), '--target-size', '150MiB')
    expect([small.code, existsSync(at('none.img'))]).toEqual([1, false])
    expect(small.out).toMatch(/too small for what is asked/)
  })
})

describe('the puppet theatre’s 320 GB disk', () => {
  it('goes onto the 256 GB drive with every file', { timeout: 240_000 }, async () => {
    const source = at('theatre.img')
    const made = await SparseFileDevice.create(source, capacityOf(320))
    await makeLightingDeskDisk(made)
    await made.close()
    const target = at('theatre-new.img')
    const { code, out, error } = await imbarco(
      'copy',
      source,
      target,
      '--target-size',
      String(capacityOf(256)),
      '--json',
    )
    expect(code, error).toBe(0)
    const report = parse(out)
    expect(report.reason).toMatch(/shrinks from/)
    expect(sfdiskPartitions(target).map((p) => p.type)).toEqual(['7', '7', 'f', '7'])

    const [from, to] = await Promise.all([source, target].map((file) => openHostImage(file, { sectorSize: 512 })))
    const [before, after] = await Promise.all([from, to].map(({ device }) => surveyDrive(device, sha256)))
    expect(after.mbr).toEqual(before.mbr)
    const parts = before.partitions.filter((p) => p.role !== 'extended')
    for (const old of parts) {
      const now = after.partitions.find((p) => p.number === old.number)!
      const [a, b] = await Promise.all([volumeOf(from.device, old), volumeOf(to.device, now)])
      expect(b.findings).toEqual([])
      const files = await allFiles(a)
      expect(files.length).toBeGreaterThan(2)
      for (const { path: name, sizeBytes } of files) {
        expect((await b.stat(name))?.sizeBytes, name).toBe(sizeBytes)
        for (const place of [0, Math.floor(sizeBytes / 2), Math.max(0, sizeBytes - 4096)]) {
          expect(Buffer.compare(await a.readFile(name, place, 4096), await b.readFile(name, place, 4096)), name).toBe(0)
        }
      }
      const cut = cutPartition(target, { first: now.firstLba, last: now.lastLba }, at(`theatre-${old.number}.img`))
      expect(listFiles(cut).size).toBeGreaterThanOrEqual(files.length)
      rmSync(cut)
    }
    await Promise.all([from.close(), to.close()])
  })
})

function volumeOf(device: Parameters<typeof surveyDrive>[0], p: PartitionSurvey): Promise<FileSystem> {
  return openFileSystem(new SliceDevice(device, p.startBytes, p.sizeBytes)) as Promise<FileSystem>
}

async function allFiles(volume: FileSystem, below = '/'): Promise<{ path: string; sizeBytes: number }[]> {
  const found = []
  for (const entry of await volume.list(below)) {
    if (entry.kind === 'directory') found.push(...(await allFiles(volume, entry.path)))
    else found.push({ path: entry.path, sizeBytes: entry.sizeBytes })
  }
  return found
}
