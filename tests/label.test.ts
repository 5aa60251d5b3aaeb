import { execFileSync, spawnSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { imbarco, digestOfFile, sparseFile } from './support/image-files'
import { checkFat } from './support/independent'
import { checkNtfsFile } from './support/ntfs-checker'
import { makeNtfs } from './support/worn-ntfs'

// Labels of volumes that other programs made, read by those programs.

const MIB = 1024 * 1024
const env = { ...process.env, PATH: `${process.env.PATH}:/usr/sbin:/sbin` }
const run = (program: string, ...args: string[]) =>
  execFileSync(program, args, { env, encoding: 'utf8', stdio: 'pipe' })
const exitOf = (program: string, ...args: string[]) => spawnSync(program, args, { env }).status
let folder: string
const at = (name: string) => path.join(folder, name)

beforeAll(() => void (folder = mkdtempSync(path.join(tmpdir(), 'imbarco-label-'))))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

const KINDS = [
  {
    kind: 'NTFS',
    mib: 40,
    make: (file: string) => makeNtfs(file, { sizeBytes: 40 * MIB, clusterBytes: 4096 }),
    read: (file: string) => run('ntfslabel', file).trim(),
    sound: async (file: string) => (await checkNtfsFile(file)).length === 0,
    long: 'Harbour charts of the north quay, checked against the paper ones',
    tooLong: 'x'.repeat(129),
    shown: (text: string) => text,
  },
  {
    kind: 'exFAT',
    mib: 40,
    make: (file: string) => void run('mkfs.exfat', file),
    read: (file: string) => /label: (.*)$/m.exec(run('exfatlabel', file))?.[1] ?? '',
    sound: async (file: string) => exitOf('fsck.exfat', '-n', file) === 0,
    long: 'Karten Ä 11',
    tooLong: 'x'.repeat(12),
    shown: (text: string) => text,
  },
  ...([16, 32] as const).map((bits) => ({
    kind: `FAT${bits}`,
    mib: bits === 16 ? 40 : 80,
    make: (file: string) => void run('mkfs.fat', '-F', String(bits), '-s', bits === 16 ? '4' : '1', file),
    read: (file: string) => run('fatlabel', file).trim().split('\n').at(-1)!.trim(),
    sound: async (file: string) => !/differ|wrong|invalid|dirty/i.test(checkFat(file)),
    long: 'Chart store',
    tooLong: 'x'.repeat(12),
    shown: (text: string) => text.toUpperCase(),
  })),
  {
    kind: 'ext4',
    mib: 40,
    make: (file: string) => void run('mkfs.ext4', '-q', '-F', file),
    read: (file: string) => run('e2label', file).trim(),
    sound: async (file: string) => exitOf('e2fsck', '-fn', file) === 0,
    long: 'sixteen bytes :)',
    tooLong: 'x'.repeat(17),
    shown: (text: string) => text,
  },
]

describe.each(KINDS)('the label of a $kind volume', ({ kind, mib, make, read, sound, long, tooLong, shown }) => {
  it('is what its own program reads, and the volume stays sound', async () => {
    const file = sparseFile(at(`${kind}.img`), mib * MIB, [])
    make(file)
    for (const text of ['Charts', long, 'C']) {
      const { code, out, error } = await imbarco('label', file, '0', text, '--json')
      expect([code, error], text).toEqual([0, ''])
      expect(JSON.parse(out)).toMatchObject({ after: shown(text), state: 'done' })
      expect(read(file)).toBe(shown(text))
      expect(await sound(file), text).toBe(true)
    }
    const whole = digestOfFile(file)
    expect(JSON.parse((await imbarco('label', file, '0', 'C', '--json')).out).state).toBe('nothing')
    expect(JSON.parse((await imbarco('label', file, '0', 'Other', '--json', '--dry-run')).out).state).toBe('planned')
    const refused = await imbarco('label', file, '0', tooLong)
    expect([refused.code, refused.error]).toEqual([1, expect.stringMatching(/label/)])
    expect(digestOfFile(file)).toBe(whole)
    expect((await imbarco('label', file, '0', '')).code).toBe(0)
    expect(read(file)).toMatch(/^(NO NAME)?$/)
    expect(await sound(file)).toBe(true)
  })

  it('becomes another by a copy, of the target alone', async () => {
    const source = sparseFile(at(`${kind} drive.img`), (mib + 8) * MIB, [])
    const table = `label: dos\n2048 ${mib * 2048} 7\n`
    execFileSync('sfdisk', ['-q', source], { env, input: table })
    run('dd', `if=${at(`${kind}.img`)}`, `of=${source}`, 'bs=1M', 'seek=1', 'conv=notrunc,sparse', 'status=none')
    const before = digestOfFile(source)
    const target = at(`${kind} copied.img`)
    const args = ['--target-size', `${mib + 40}MiB`, '--label']
    expect((await imbarco('fit', source, ...args, `1=${tooLong}`)).code).toBe(1)
    expect((await imbarco('copy', source, target, ...args, '1=Chart room')).code).toBe(0)
    const { partitions } = JSON.parse((await imbarco('survey', target, '--json')).out)
    const { startBytes, lengthBytes } = partitions[0]
    const volume = at(`${kind} volume of the target`)
    run('dd', `if=${target}`, `of=${volume}`, 'bs=1M', `skip=${startBytes / MIB}`, 'status=none')
    truncateSync(volume, lengthBytes)
    expect([read(volume), await sound(volume), digestOfFile(source)]).toEqual([shown('Chart room'), true, before])
  })
})

describe('a label', () => {
  it('is not written where that cannot be done', async () => {
    const nothing = sparseFile(at('nothing.img'), 8 * MIB, [])
    expect((await imbarco('label', nothing, '0', 'x')).code).toBe(1)
    expect((await imbarco('label', nothing, '3', 'x')).code).toBe(2)
    run('mkswap', '-q', nothing)
    const swap = await imbarco('label', nothing, '0', 'x')
    expect([swap.code, swap.error]).toEqual([1, expect.stringMatching(/not written here/)])
    const dirty = sparseFile(at('dirty.img'), 40 * MIB, [])
    run('mkfs.fat', '-F', '16', dirty)
    const bytes = readFileSync(dirty)
    bytes[37] = 1
    writeFileSync(dirty, bytes)
    const refused = await imbarco('label', dirty, '0', 'x')
    expect([refused.code, refused.error]).toEqual([1, expect.stringMatching(/not clean/)])
    expect(readFileSync(dirty).equals(bytes)).toBe(true)
  })
})
