import { execFileSync, spawn } from 'node:child_process'
import { once } from 'node:events'
import { closeSync, mkdtempSync, openSync, readFileSync, readSync, rmSync, writeFileSync, writeSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { noise } from '@/bench/random'
import { isZero } from '@/core/block/device'
import { imbarco, shaOfFile, sparseFile } from './support/image-files'
import { cutPartition, extractDigests, gdiskPartitions, gdiskProblems, sfdiskPartitions } from './support/independent'
import { checkNtfsFile } from './support/ntfs-checker'
import { makeNtfs, withNtfs } from './support/worn-ntfs'

// One volume, put into a prepared partition of drives that other programs made and go on to judge.

const MIB = 1024 * 1024
const env = { ...process.env, PATH: `${process.env.PATH}:/usr/sbin:/sbin` }
const run = (program: string, args: string[], input?: string) =>
  execFileSync(program, args, { env, input, encoding: 'utf8', stdio: 'pipe' })
const BASIC_DATA = 'ebd0a0a2-b9e5-4433-87c0-68b6b72699c7'

let folder: string
let source: string
let files: Map<string, string>
const at = (name: string) => path.join(folder, name)

/** Puts a file into a drive. */
function place(drive: string, file: string, sector: number): void {
  const [from, to] = [openSync(file, 'r'), openSync(drive, 'r+')]
  const buffer = new Uint8Array(4 * MIB)
  for (let done = 0, read = 1; read > 0; done += read) {
    read = readSync(from, buffer, 0, buffer.length, done)
    if (!isZero(buffer.subarray(0, read))) writeSync(to, buffer, 0, read, sector * 512 + done)
  }
  closeSync(from)
  closeSync(to)
}

const cut = (drive: string, first: number, last: number, name: string) => cutPartition(drive, { first, last }, at(name))

/** Digests of the partitions of a GPT but for one. */
const others = (drive: string, without: number) =>
  [...gdiskPartitions(drive)]
    .filter(([number]) => number !== without)
    .map(([number, { first, last }]) => [number, shaOfFile(cut(drive, first, last, 'part'))])

/** Digests of the files, without those that the volume keeps about itself. */
const filesOf = (volume: string, out: string) =>
  new Map([...extractDigests(volume, '*', at(out))].filter(([name]) => !name.startsWith('[SYSTEM]')))

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-into-'))
  const volume = at('volume')
  makeNtfs(volume, { sizeBytes: 300 * MIB, clusterBytes: 4096 })
  await withNtfs(volume, (root) => {
    for (let i = 0; i < 60; i++) writeFileSync(path.join(root, `Chart ${i}.dat`), noise(200_000 + i, i + 1))
  })
  files = filesOf(volume, 'of the source')
  expect(files.size).toBeGreaterThan(50)
  source = sparseFile(at('source.img'), 400 * MIB, [])
  run('sfdisk', ['-q', source], 'label: dos\n2048 614400 7\n')
  place(source, volume, 2048)
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

/** A drive in use: a FAT volume, an NTFS volume, a prepared partition, an ext4 volume behind it. */
function inUse(name: string, sizeMib: number): string {
  const drive = sparseFile(at(name), 520 * MIB, [])
  run('sgdisk', [
    ...['-n', '1:2048:+64M', '-t', '1:ef00', '-n', '2:0:+40M', '-t', '2:0700'],
    ...['-n', `5:0:+${sizeMib}M`, '-t', '5:8300', '-c', '5:for the charts', '-n', '4:0:+40M', '-t', '4:8300', drive],
  ])
  const part = (number: number) => gdiskPartitions(drive).get(number)!
  const fat = sparseFile(at('fat'), 64 * MIB, [])
  run('mkfs.fat', ['-F', '32', fat])
  makeNtfs(at('ntfs'), { sizeBytes: 40 * MIB, clusterBytes: 4096 })
  for (const [file, number, size] of [
    ['prepared', 5, sizeMib],
    ['behind', 4, 40],
  ] as const) {
    const ext = sparseFile(at(file), size * MIB, [])
    run('mkfs.ext4', ['-q', '-F', ext])
    place(drive, ext, part(number).first)
  }
  place(drive, fat, part(1).first)
  place(drive, at('ntfs'), part(2).first)
  return drive
}

const INTO = ['--volumes', '1', '--into', '5', '--json']

describe('a volume that goes into a prepared partition', () => {
  it('of a GPT takes its length, and all else stays byte for byte', () => {
    const drive = inUse('gpt.img', 360)
    const before = { parts: gdiskPartitions(drive), rest: others(drive, 5), whole: shaOfFile(drive) }
    const dry = imbarco('restore', source, drive, ...INTO, '--dry-run')
    expect([dry.code, JSON.parse(dry.out).dryRun, shaOfFile(drive)]).toEqual([0, true, before.whole])
    const { code, out, error } = imbarco('restore', source, drive, ...INTO)
    expect([code, error.replace(/^\{.*\}$/gm, '').trim()]).toEqual([0, ''])
    expect(JSON.parse(out)).toMatchObject({ fits: true, verified: true, entry: { after: BASIC_DATA }, lost: [] })
    expect(gdiskProblems(drive)).toBe('')
    expect(others(drive, 5)).toEqual(before.rest)
    const after = gdiskPartitions(drive)
    expect(after.get(5)).toEqual({ ...before.parts.get(5), type: BASIC_DATA })
    after.delete(5)
    before.parts.delete(5)
    expect(after).toEqual(before.parts)
  })

  it('is sound there, and has all of its files', async () => {
    const { first, last } = gdiskPartitions(at('gpt.img')).get(5)!
    const volume = cut(at('gpt.img'), first, last, 'restored')
    expect(await checkNtfsFile(volume)).toEqual([])
    expect(filesOf(volume, 'of the target')).toEqual(files)
    // It has grown: there is room for what the old one could not hold.
    await withNtfs(volume, (root) => {
      for (let i = 0; i < 3; i++) writeFileSync(path.join(root, `New ${i}.dat`), noise(100 * MIB, 99))
    })
    expect(await checkNtfsFile(volume)).toEqual([])
  })

  it('goes into a logical partition of an MBR, whose record alone is another', async () => {
    const drive = sparseFile(at('mbr.img'), 900 * MIB, [[600 * MIB, noise(MIB, 3)]])
    run('sfdisk', ['-q', drive], 'label: dos\n2048 204800 c\n206848 1433600 5\n208896 700000 83\n1000000 600000 83\n')
    const before = sfdiskPartitions(drive)
    const { code, out } = imbarco('restore', source, drive, ...INTO)
    expect([code, JSON.parse(out).entry]).toEqual([0, { before: '83', after: '07' }])
    const [primary, extended, logical, last] = before
    expect(sfdiskPartitions(drive)).toEqual([primary, extended, { ...logical, type: '7' }, last])
    const volume = cut(drive, logical.start, logical.start + logical.size - 1, 'logical')
    expect(await checkNtfsFile(volume)).toEqual([])
    expect(filesOf(volume, 'of the logical')).toEqual(files)
    const untouched = Buffer.alloc(MIB)
    const open = openSync(drive, 'r')
    readSync(open, untouched, 0, MIB, 600 * MIB)
    closeSync(open)
    expect(untouched.equals(Buffer.from(noise(MIB, 3)))).toBe(true)
  })

  it('goes on after it was cut off, and before that nobody takes the partition for whole', async () => {
    const drive = inUse('cut.img', 360)
    const rest = others(drive, 5)
    const args = ['restore', source, drive, ...INTO, '--journal', at('cut.journal')]
    const child = spawn('bin/imbarco', args, { stdio: ['ignore', 'ignore', 'pipe'] })
    const ended = once(child, 'exit')
    child.stderr.once('data', () => child.kill('SIGKILL'))
    await ended
    expect(child.signalCode).toBe('SIGKILL')
    const { first, last } = gdiskPartitions(drive).get(5)!
    expect(gdiskPartitions(drive).get(5)!.type).not.toBe(BASIC_DATA)
    expect(readFileSync(cut(drive, first, first, 'first')).toString('latin1')).toMatch(/imbarco/i)
    expect(others(drive, 5)).toEqual(rest)
    const { code, error } = imbarco(...args, '--resume')
    expect([code, error.replace(/^\{.*\}$/gm, '').trim()]).toEqual([0, ''])
    expect([gdiskProblems(drive), gdiskPartitions(drive).get(5)!.type]).toEqual(['', BASIC_DATA])
    expect(others(drive, 5)).toEqual(rest)
    const volume = cut(drive, first, last, 'resumed')
    expect(await checkNtfsFile(volume)).toEqual([])
    expect(filesOf(volume, 'of the resumed')).toEqual(files)
  })

  it('goes into unallocated space, as a partition of its own', async () => {
    const drive = inUse('free.img', 8)
    const before = { parts: gdiskPartitions(drive), rest: others(drive, 0) }
    const args = ['restore', source, drive, '--volumes', '1', '--into-free', '--json']
    const whole = shaOfFile(drive)
    const dry = imbarco(...args, '--dry-run')
    expect([dry.code, JSON.parse(dry.out).into, shaOfFile(drive)]).toEqual([0, null, whole])
    const kept = ['--journal', at('free.journal')]
    const child = spawn('bin/imbarco', [...args, ...kept], { stdio: ['ignore', 'ignore', 'pipe'] })
    const ended = once(child, 'exit')
    child.stderr.once('data', () => child.kill('SIGKILL'))
    await ended
    const { code, out } = imbarco(...args, ...kept, '--resume')
    const { into, place, added } = JSON.parse(out)
    expect([code, into, added, gdiskProblems(drive)]).toEqual([0, 3, true, ''])
    const { first, last, type } = gdiskPartitions(drive).get(3)!
    expect([first * 512, (last - first + 1) * 512, type]).toEqual([place.offset, place.length, BASIC_DATA])
    expect(others(drive, 3)).toEqual(before.rest)
    expect([...gdiskPartitions(drive)].filter(([number]) => number !== 3)).toEqual([...before.parts])
    const volume = cut(drive, first, last, 'new')
    expect(await checkNtfsFile(volume)).toEqual([])
    expect(filesOf(volume, 'of the new')).toEqual(files)
    // What is left has less than its length: there it becomes smaller.
    const again = JSON.parse(imbarco(...args).out)
    expect(again).toMatchObject({ fits: true, into: 6, verified: true })
    expect(again.place.length).toBeLessThan(100 * MIB)
    const less = gdiskPartitions(drive).get(6)!
    const smaller = cut(drive, less.first, less.last, 'smaller')
    expect(await checkNtfsFile(smaller)).toEqual([])
    expect(filesOf(smaller, 'of the smaller')).toEqual(files)
    const full = imbarco(...args)
    expect([full.code, full.error, gdiskProblems(drive)]).toEqual([
      1,
      expect.stringMatching(/no unallocated space/),
      '',
    ])
  })

  it('goes into unallocated space of an MBR, and says when no record is left', async () => {
    const drive = sparseFile(at('mbr free.img'), 400 * MIB, [])
    run('sfdisk', ['-q', drive], 'label: dos\n2048 20480 c\n')
    const args = ['restore', source, drive, '--volumes', '1', '--into-free', '--json']
    const { code, out } = imbarco(...args)
    expect([code, JSON.parse(out).into]).toEqual([0, 2])
    const [first, second] = sfdiskPartitions(drive)
    expect([first, second.type]).toEqual([{ start: 2048, size: 20480, type: 'c' }, '7'])
    const volume = cut(drive, second.start, second.start + second.size - 1, 'new of MBR')
    expect(await checkNtfsFile(volume)).toEqual([])
    expect(filesOf(volume, 'of the new of MBR')).toEqual(files)
    const full = sparseFile(at('mbr full.img'), 500 * MIB, [])
    run('sfdisk', ['-q', full], 'label: dos\n2048 2048 c\n4096 2048 c\n6144 2048 c\n8192 2048 c\n')
    const whole = shaOfFile(full)
    const refused = imbarco('restore', source, full, ...args.slice(3))
    expect([refused.code, refused.error]).toEqual([1, expect.stringMatching(/four partitions/)])
    expect(shaOfFile(full)).toBe(whole)
  })

  it('is refused, with nothing written, where it does not belong', () => {
    const drive = inUse('refused.img', 8)
    const whole = shaOfFile(drive)
    const tried = (...args: string[]) => {
      const { code, out, error } = imbarco('restore', source, drive, ...args, '--json')
      return [code, code === 1 && out ? JSON.parse(out).obstacles[0].code : error.trim()]
    }
    expect(tried('--volumes', '1', '--into', '5')).toEqual([1, 'below-least'])
    expect(tried('--volumes', '1', '--into', '9')).toEqual([2, expect.stringMatching(/no partition 9 on the target/)])
    expect(tried('--volumes', '3', '--into', '5')).toEqual([2, expect.stringMatching(/no partition 3 on the source/)])
    expect(tried('--volumes', '1', '--into', '1')).toEqual([1, expect.stringMatching(/how its system starts/)])
    expect(tried('--into', '5')).toEqual([2, expect.stringMatching(/--volumes/)])
    expect(tried('--volumes', '1', '--into', '5', '--target-size', '1GiB')).toEqual([
      2,
      expect.stringMatching(/--target-size/),
    ])
    expect(tried('--volumes', '1')).toEqual([2, expect.stringMatching(/--into/)])
    expect(shaOfFile(drive)).toBe(whole)
    const before = shaOfFile(source)
    const free = imbarco('restore', source, source, '--volumes', '1', '--into-free')
    expect([free.code, free.error, shaOfFile(source)]).toEqual([2, expect.stringMatching(/source itself/), before])
    const own = imbarco('restore', source, source, '--volumes', '1', '--into', '1')
    expect([own.code, own.error]).toEqual([2, expect.stringMatching(/source itself/)])
    // What holds files is not taken for prepared.
    const full = imbarco('restore', source, at('gpt.img'), ...INTO)
    expect([full.code, full.error]).toEqual([1, expect.stringMatching(/holds files/)])
    expect(imbarco('restore', source, at('gpt.img'), ...INTO, '--replace').code).toBe(0)
  })
})
