import { execFileSync, spawn } from 'node:child_process'
import { once } from 'node:events'
import {
  closeSync,
  existsSync,
  mkdtempSync,
  openSync,
  readFileSync,
  readSync,
  rmSync,
  watch,
  writeFileSync,
  writeSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { noise } from '@/bench/random'
import { isZero } from '@/core/block/device'
import { imbarco, digestOfFile, sparseFile } from './support/image-files'
import { cutPartition, extractDigests, gdiskPartitions, gdiskProblems, sfdiskPartitions } from './support/independent'
import { checkNtfsFile } from './support/ntfs-checker'
import { untilPowerCut } from './support/power-cut'
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
let ledgers: Map<string, string>
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
    .map(([number, { first, last }]) => [number, digestOfFile(cut(drive, first, last, 'part'))])

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
  makeNtfs(at('neighbour'), { sizeBytes: 260 * MIB, clusterBytes: 4096 })
  await withNtfs(at('neighbour'), (root) => {
    const [room, ...rest] = Array.from({ length: 9 }, (_, i) => path.join(root, `Ledger ${i}.dat`))
    writeFileSync(room, new Uint8Array(150 * MIB))
    rest.forEach((file, i) => writeFileSync(file, noise(3 * MIB, 200 + i)))
    rmSync(room)
  })
  ledgers = filesOf(at('neighbour'), 'of the neighbour')
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
  it('of a GPT takes its length, and all else stays byte for byte', async () => {
    const drive = inUse('gpt.img', 360)
    const before = { parts: gdiskPartitions(drive), rest: others(drive, 5), whole: digestOfFile(drive) }
    const dry = await imbarco('restore', source, drive, ...INTO, '--dry-run')
    expect([dry.code, JSON.parse(dry.out).dryRun, digestOfFile(drive)]).toEqual([0, true, before.whole])
    const { code, out, error } = await imbarco('restore', source, drive, ...INTO)
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
    const { code, out } = await imbarco('restore', source, drive, ...INTO)
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
    expect(await untilPowerCut(args, /^\{/)).toBe('SIGKILL')
    const { first, last } = gdiskPartitions(drive).get(5)!
    expect(gdiskPartitions(drive).get(5)!.type).not.toBe(BASIC_DATA)
    expect(readFileSync(cut(drive, first, first, 'first')).toString('latin1')).toMatch(/imbarco/i)
    expect(others(drive, 5)).toEqual(rest)
    const { code, error } = await imbarco(...args, '--resume')
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
    const whole = digestOfFile(drive)
    const dry = await imbarco(...args, '--dry-run')
    expect([dry.code, JSON.parse(dry.out).into, digestOfFile(drive)]).toEqual([0, null, whole])
    const kept = ['--journal', at('free.journal')]
    expect(await untilPowerCut([...args, ...kept], /^\{/)).toBe('SIGKILL')
    const { code, out } = await imbarco(...args, ...kept, '--resume')
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
    const again = JSON.parse((await imbarco(...args)).out)
    expect(again).toMatchObject({ fits: true, into: 6, verified: true })
    expect(again.place.length).toBeLessThan(100 * MIB)
    const less = gdiskPartitions(drive).get(6)!
    const smaller = cut(drive, less.first, less.last, 'smaller')
    expect(await checkNtfsFile(smaller)).toEqual([])
    expect(filesOf(smaller, 'of the smaller')).toEqual(files)
    const full = await imbarco(...args)
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
    const { code, out } = await imbarco(...args)
    expect([code, JSON.parse(out).into]).toEqual([0, 2])
    const [first, second] = sfdiskPartitions(drive)
    expect([first, second.type]).toEqual([{ start: 2048, size: 20480, type: 'c' }, '7'])
    const volume = cut(drive, second.start, second.start + second.size - 1, 'new of MBR')
    expect(await checkNtfsFile(volume)).toEqual([])
    expect(filesOf(volume, 'of the new of MBR')).toEqual(files)
    const full = sparseFile(at('mbr full.img'), 500 * MIB, [])
    run('sfdisk', ['-q', full], 'label: dos\n2048 2048 c\n4096 2048 c\n6144 2048 c\n8192 2048 c\n')
    const whole = digestOfFile(full)
    const refused = await imbarco('restore', source, full, ...args.slice(3))
    expect([refused.code, refused.error]).toEqual([1, expect.stringMatching(/four partitions/)])
    expect(digestOfFile(full)).toBe(whole)
  })

  it('takes room from the neighbour in front of it, which is made smaller, cut off and gone on with', async () => {
    const drive = sparseFile(at('in front.img'), 640 * MIB, [])
    run('sgdisk', [
      ...['-n', '1:2048:+260M', '-t', '1:0700', '-n', '7:0:+280M', '-t', '7:8300'],
      ...['-n', '3:0:+40M', '-t', '3:8300', drive],
    ])
    const parts = gdiskPartitions(drive)
    place(drive, at('neighbour'), parts.get(1)!.first)
    const ext = sparseFile(at('beside'), 40 * MIB, [])
    run('mkfs.ext4', ['-q', '-F', ext])
    place(drive, ext, parts.get(3)!.first)
    const [whole, rest] = [
      digestOfFile(drive),
      digestOfFile(cut(drive, parts.get(3)!.first, parts.get(3)!.last, 'part')),
    ]
    const args = ['restore', source, drive, '--volumes', '1', '--into', '7', '--shrink-neighbour', '1', '--json']
    const dry = await imbarco(...args, '--dry-run')
    const { shrinks, place: planned } = JSON.parse(dry.out)
    expect([dry.code, shrinks.partition, shrinks.beforeBytes, digestOfFile(drive)]).toEqual([0, 1, 260 * MIB, whole])
    expect([planned.length, shrinks.afterBytes]).toEqual([300 * MIB, 240 * MIB])
    const kept = ['--journal', at('room.journal')]
    // The power goes once while room is made, and once while the volume is copied there.
    const child = spawn('bin/imbarco', [...args, ...kept], { stdio: 'ignore' })
    const watcher = watch(folder, (_, name) => name === 'in front.img.shrink' && child.kill('SIGKILL'))
    expect((await once(child, 'exit'))[1]).toBe('SIGKILL')
    watcher.close()
    const room = JSON.parse(readFileSync(`${drive}.shrink`, 'utf8'))
    expect([room.state, existsSync(at('room.journal'))]).toEqual(['writing', false])
    expect(await untilPowerCut([...args, ...kept, '--resume'], /^\{/)).toBe('SIGKILL')
    expect(existsSync(at('room.journal'))).toBe(true)
    const { code, error, out } = await imbarco(...args, ...kept, '--resume')
    expect([code, error.replace(/^\{.*\}$/gm, '').trim()]).toEqual([0, ''])
    expect(JSON.parse(out)).toMatchObject({ verified: true, place: planned })
    expect(existsSync(`${drive}.shrink`)).toBe(false)
    expect(gdiskProblems(drive)).toBe('')
    const after = gdiskPartitions(drive)
    expect(after.get(1)).toEqual({ ...parts.get(1), last: parts.get(1)!.first + (240 * MIB) / 512 - 1 })
    expect([after.get(7)!.first * 512, after.get(7)!.last]).toEqual([planned.offset, parts.get(7)!.last])
    expect(digestOfFile(cut(drive, after.get(3)!.first, after.get(3)!.last, 'part'))).toBe(rest)
    for (const [number, wanted] of [
      [1, ledgers],
      [7, files],
    ] as const) {
      const volume = cut(drive, after.get(number)!.first, after.get(number)!.last, `of ${number}`)
      expect(await checkNtfsFile(volume)).toEqual([])
      expect(filesOf(volume, `files of ${number}`)).toEqual(wanted)
    }
  })

  it('takes room for unallocated space from the neighbour of an MBR, which is taken back as long as nothing is there', async () => {
    const drive = sparseFile(at('behind.img'), 400 * MIB, [])
    run('sfdisk', ['-q', drive], 'label: dos\n2048 532480 7\n')
    place(drive, at('neighbour'), 2048)
    const whole = digestOfFile(drive)
    const smaller = await imbarco('shrink', drive, '1', '200MiB', '--json')
    expect(JSON.parse(smaller.out)).toMatchObject({ partition: 1, afterBytes: 200 * MIB, state: 'done' })
    expect(sfdiskPartitions(drive)[0].size).toBe((200 * MIB) / 512)
    expect(await checkNtfsFile(cut(drive, 2048, 2048 + (200 * MIB) / 512 - 1, 'shrunk'))).toEqual([])
    expect((await imbarco('shrink', drive, '1', '--undo')).code).toBe(0)
    expect(digestOfFile(drive)).toBe(whole)
    const args = ['restore', source, drive, '--volumes', '1', '--into-free', '--shrink-neighbour', '1', '--json']
    const { code, out } = await imbarco(...args)
    expect([code, JSON.parse(out).into]).toEqual([0, 2])
    const [first, second] = sfdiskPartitions(drive)
    expect([first.type, second.type, second.size]).toEqual(['7', '7', 614400])
    for (const [{ start, size }, wanted] of [
      [first, ledgers],
      [second, files],
    ] as const) {
      const volume = cut(drive, start, start + size - 1, `at ${start}`)
      expect(await checkNtfsFile(volume)).toEqual([])
      expect(filesOf(volume, `files at ${start}`)).toEqual(wanted)
    }
    const again = await imbarco('shrink', drive, '1', '10MiB')
    expect([again.code, again.error]).toEqual([1, expect.stringMatching(/are missing/)])
  })

  it('is refused, with nothing written, where it does not belong', async () => {
    const drive = inUse('refused.img', 8)
    const whole = digestOfFile(drive)
    const tried = async (...args: string[]) => {
      const { code, out, error } = await imbarco('restore', source, drive, ...args, '--json')
      return [code, code === 1 && out ? JSON.parse(out).obstacles[0].code : error.trim()]
    }
    expect(await tried('--volumes', '1', '--into', '5')).toEqual([1, 'below-least'])
    expect(await tried('--volumes', '1', '--into', '9')).toEqual([
      2,
      expect.stringMatching(/no partition 9 on the target/),
    ])
    expect(await tried('--volumes', '3', '--into', '5')).toEqual([
      2,
      expect.stringMatching(/no partition 3 on the source/),
    ])
    expect(await tried('--volumes', '1', '--into', '1')).toEqual([1, expect.stringMatching(/how its system starts/)])
    expect(await tried('--into', '5')).toEqual([2, expect.stringMatching(/--volumes/)])
    expect(await tried('--volumes', '1', '--into', '5', '--target-size', '1GiB')).toEqual([
      2,
      expect.stringMatching(/--target-size/),
    ])
    expect(await tried('--volumes', '1')).toEqual([2, expect.stringMatching(/--into/)])
    expect(digestOfFile(drive)).toBe(whole)
    const before = digestOfFile(source)
    const free = await imbarco('restore', source, source, '--volumes', '1', '--into-free')
    expect([free.code, free.error, digestOfFile(source)]).toEqual([2, expect.stringMatching(/source itself/), before])
    const own = await imbarco('restore', source, source, '--volumes', '1', '--into', '1')
    expect([own.code, own.error]).toEqual([2, expect.stringMatching(/source itself/)])
    // What holds files is not taken for prepared.
    const full = await imbarco('restore', source, at('gpt.img'), ...INTO)
    expect([full.code, full.error]).toEqual([1, expect.stringMatching(/holds files/)])
    expect((await imbarco('restore', source, at('gpt.img'), ...INTO, '--replace')).code).toBe(0)
  })
})
