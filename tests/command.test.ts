import { execFileSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { SparseFileDevice } from '@/bench/sparse-file'
import { makeDamagedDisk } from '@/bench/scenario/disks/shop'
import { SurveyReport } from '@/cli/report'
import { SliceDevice } from '@/core/block/slice'
import { openFileSystem } from '@/core/filesystem'
import { pattern } from '@/core/testing'
import { makeSystemDisk } from '@/core/testing-disk'
import { openHostImage } from '@/host/images'
import { imbarco, digestOfFile, sparseFile } from './support/image-files'

const MIB = 1024 * 1024
let folder: string
let disk: string
const at = (name: string) => path.join(folder, name)

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-command-'))
  disk = at('disk.img')
  const device = await makeSystemDisk()
  const parts: [number, Uint8Array][] = []
  for (const { offset, length } of await device.mapped(0, device.size)) {
    const bytes = new Uint8Array(length)
    await device.read(offset, bytes)
    parts.push([offset, bytes])
  }
  sparseFile(disk, device.size, parts)
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

const parse = (text: string) => JSON.parse(text)

describe('imbarco survey', () => {
  it('prints for people and for programs, and leaves the file as it is', async () => {
    const before = [digestOfFile(disk), statSync(disk).mtimeMs]
    const people = await imbarco('survey', disk)
    expect([people.code, people.error]).toEqual([0, ''])
    expect(people.out).toMatch(/3\s+Harbour \(C:\)\s+system\s+NTFS/)
    const { code, out } = await imbarco('survey', disk, '--json')
    expect(code).toBe(0)
    const report = SurveyReport.strict().parse(parse(out))
    expect([report.scheme, report.sectorSize, report.sizeBytes]).toEqual(['gpt', 512, 400 * MIB])
    expect(report.partitions.map((p) => [p.number, p.role, p.fileSystem?.kind, p.startBytes, p.lengthBytes])).toEqual([
      [1, 'boot', 'fat32', MIB, 100 * MIB],
      [2, 'reserved', 'unknown', 101 * MIB, 16 * MIB],
      [3, 'system', 'ntfs', 117 * MIB, 258 * MIB],
      [4, 'recovery', 'ntfs', 375 * MIB, 24 * MIB],
    ])
    expect([digestOfFile(disk), statSync(disk).mtimeMs]).toEqual(before)
  })

  it('ends with 1 when something is damaged, and says what', async () => {
    const file = at('damaged.img')
    const device = await SparseFileDevice.create(file, 1024 * MIB)
    await makeDamagedDisk(device)
    await device.close()
    const { code, out } = await imbarco('survey', file, '--json')
    expect(code).toBe(1)
    const report = SurveyReport.parse(parse(out))
    expect(report.findings.find((f) => f.severity === 'damage')).toMatchObject({ code: 'gpt.primary-bad' })
    expect(report.partitions).toHaveLength(3)
    const sector = pattern(512, 1)
    expect((await imbarco('survey', sparseFile(at('noise.img'), 4 * MIB, [[0, sector]]), '--json')).code).toBe(0)
  })

  it('calls a file system without a table partition 0', async () => {
    const file = sparseFile(at('whole.img'), 16 * MIB, [])
    execFileSync('/usr/sbin/mke2fs', ['-q', '-t', 'ext4', '-L', 'whole', file])
    const report = parse((await imbarco('survey', file, '--json')).out)
    expect([report.scheme, report.partitions[0].number, report.partitions[0].fileSystem.kind]).toEqual([
      'none',
      0,
      'ext4',
    ])
  })
})

describe('imbarco files and cat', () => {
  it('list a folder and give the bytes of a file', async () => {
    const listed = parse((await imbarco('files', disk, '3', '/Windows', '--json')).out)
    expect(listed.entries).toEqual([
      { name: 'notes.txt', path: '/Windows/notes.txt', kind: 'file', sizeBytes: 3000 },
      { name: 'System32', path: '/Windows/System32', kind: 'directory', sizeBytes: 0 },
    ])
    expect((await imbarco('files', disk, '1')).out).toMatch(/folder\s+EFI/)
    const bytes = execFileSync('bin/imbarco', ['cat', disk, '3', '/Windows/notes.txt'])
    expect(bytes).toEqual(Buffer.from(pattern(3000, 3)))
  })

  it.each([
    [['cat', '3', '/nothing'], 1, /There is no \/nothing/],
    [['cat', '3', '/Windows'], 1, /folder/],
    [['cat', '9', '/x'], 2, /no partition 9/],
    [['files', '2', '/'], 1, /Nothing on partition 2/],
    [['files', 'two', '/'], 2, /number/],
  ])('%j ends with %i', async ([command, ...rest], code, sentence) => {
    const result = await imbarco(command, disk, ...rest)
    expect([result.code, result.out]).toEqual([code, ''])
    expect(result.error).toMatch(sentence)
  })
})

describe('imbarco convert and compare', () => {
  it('make another image of the same disk, and find it equal', async () => {
    const made = at('disk.vhdx')
    const report = parse((await imbarco('convert', disk, made, '--json')).out)
    expect(report).toMatchObject({ format: 'vhdx', virtualBytes: 400 * MIB, fileBytes: statSync(made).size })
    const { code, out } = await imbarco('compare', disk, made, '--json')
    expect([code, parse(out).equal]).toEqual([0, true])
    expect((await imbarco('survey', made, '--json')).out).toContain('"format": "vhdx"')
  })

  it('name the first difference and the file that it touches', async () => {
    const changed = at('changed.img')
    const bytes = readFileSync(disk)
    const image = await openHostImage(disk)
    const volume = await openFileSystem(new SliceDevice(image.device, 117 * MIB, 258 * MIB))
    const [{ offset }] = await volume!.fileExtents!('/Windows/notes.txt')
    await image.close()
    bytes[117 * MIB + offset + 40] ^= 0xff
    bytes[600] ^= 1
    writeFileSync(changed, bytes)
    const { code, out } = await imbarco('compare', disk, changed, '--json')
    expect(code).toBe(1)
    const report = parse(out)
    expect([report.equal, report.firstDifference, report.differingBytes]).toEqual([
      false,
      { offset: 600, sector: 1 },
      2,
    ])
    expect(report.touched).toMatchObject({
      outside: true,
      partitions: [3],
      files: [{ partition: 3, path: '/Windows/notes.txt' }],
    })
    expect((await imbarco('compare', disk, changed)).out).toMatch(/first differ at byte 600/)
  })

  it('end with 2 on wrong use', async () => {
    expect((await imbarco()).code).toBe(2)
    expect((await imbarco('survey')).code).toBe(2)
    expect((await imbarco('survey', disk, '--sector-size', '1024')).code).toBe(2)
    expect((await imbarco('survey', at('nothing'))).code).toBe(2)
    expect((await imbarco('convert', disk, at('name'))).error).toMatch(/say --to/)
    expect((await imbarco('convert', disk, at('x.img'), '--to', 'tape')).code).toBe(2)
    expect((await imbarco('frobnicate')).code).toBe(2)
    expect((await imbarco('--help')).code).toBe(0)
  })
})
