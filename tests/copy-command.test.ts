import {
  closeSync,
  copyFileSync,
  existsSync,
  mkdtempSync,
  openSync,
  readFileSync,
  rmSync,
  writeFileSync,
  writeSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { TARGET_KINDS } from '@/core/image'
import { noise } from '@/bench/random'
import { readBytes } from '@/core/block/device'
import { HEADER as QCOW2 } from '@/core/image/qcow2-layout'
import { makeSystemDisk } from '@/core/testing-disk'
import { deep, pattern } from '@/core/testing'
import { imbarco, digestOfFile, sparseFile } from './support/image-files'
import { untilPowerCut } from './support/power-cut'

const MIB = 1024 * 1024
let folder: string
let disk: string
let full: string
const at = (name: string) => path.join(folder, name)
const parse = (text: string) => JSON.parse(text)

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-copy-'))
  disk = at('disk.img')
  const device = await makeSystemDisk({ systemFiles: [{ path: '/pagefile.sys', content: pattern(3 * MIB, 4) }] })
  const parts: [number, Uint8Array][] = []
  for (const { offset, length } of await device.mapped(0, device.size)) {
    parts.push([offset, await readBytes(device, offset, length)])
  }
  sparseFile(disk, device.size, parts)
  full = at('full.img')
  const piece = noise(32 * MIB, 7)
  sparseFile(
    full,
    384 * MIB,
    Array.from({ length: 12 }, (_, i) => [i * 32 * MIB, piece]),
  )
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

/** An image that holds nothing of its own and builds on another in its folder. */
function childOf(name: string, size: number): string {
  const cluster = 65_536
  const bytes = new Uint8Array(cluster * 3)
  const places = { l1Size: 1, l1Offset: cluster, refcountOffset: cluster * 2, refcountClusters: 1 }
  QCOW2.write(bytes, { magic: 0x514649fb, version: 2, clusterBits: 16, size, ...places })
  QCOW2.write(bytes, { backingOffset: 1024, backingLength: name.length })
  bytes.set(Buffer.from(name), 1024)
  writeFileSync(at('child.qcow2'), bytes)
  return at('child.qcow2')
}

/** What an unfinished target begins with. */
const MARK = 'IMBARCO UNFINISHED COPY'

describe('imbarco copy with a journal', () => {
  it.each([
    ['while it copied', /"phase":"copy","copiedBytes":[1-9]/],
    ['while it read back', /"phase":"check"/],
  ])('that was killed %s goes on and ends byte-equal', async (_when, when) => {
    const [target, journal] = [at('killed.img'), at('killed.journal')]
    const args = ['copy', full, target, '--every-sector', '--journal', journal, '--json']
    const unfinished = `${target}.unfinished`
    const marked = () => existsSync(unfinished) && readFileSync(unfinished).subarray(0, 23).toString() === MARK
    for (const file of [target, unfinished, journal]) rmSync(file, { force: true })
    expect(await untilPowerCut(args, when)).toBe('SIGKILL')
    expect(marked()).toBe(true)
    expect(existsSync(target)).toBe(false)
    expect((await imbarco('survey', unfinished)).out).toMatch(/unfinished|did not end/i)
    const { code, out } = await imbarco(...args, '--resume')
    expect(code).toBe(0)
    expect(parse(out)).toMatchObject({ verified: true, digestName: 'BLAKE3', lost: [] })
    expect(digestOfFile(target)).toBe(digestOfFile(full))
  })

  it('does not go on with a journal of something else, or without one', async () => {
    const [target, journal] = [at('other.img'), at('other.journal')]
    expect((await imbarco('copy', disk, target, '--journal', journal)).code).toBe(0)
    const before = digestOfFile(target)
    // One that has ended is neither resumed nor written over, whatever is asked for.
    for (const [args, exit, sentence] of [
      [['--resume'], 1, /has ended/],
      [['--resume', '--target-size', '900MiB'], 1, /has ended/],
      [['--overwrite'], 2, /journal of a copy that has ended, so it is kept/],
    ] as const) {
      const refused = await imbarco('copy', disk, target, '--journal', journal, ...args)
      expect([refused.code, refused.error]).toEqual([exit, expect.stringMatching(sentence)])
      expect(digestOfFile(target)).toBe(before)
    }
    const none = await imbarco('copy', disk, at('none.img'), '--resume')
    expect([none.code, none.error]).toEqual([2, expect.stringMatching(/needs the journal/)])
    const missing = await imbarco('copy', disk, at('none.img'), '--resume', '--journal', at('no.journal'))
    expect(missing.code).toBe(2)
    expect(existsSync(at('none.img'))).toBe(false)
    writeFileSync(at('torn.journal'), 'not a journal\n')
    const torn = await imbarco('copy', disk, at('none.img'), '--resume', '--journal', at('torn.journal'))
    expect([torn.code, torn.error]).toEqual([1, expect.stringMatching(/nothing to go on from/)])
  })
})

describe('imbarco copy', () => {
  it('leaves page files out, and leaves the copy unread, on request', async () => {
    const whole = parse((await imbarco('copy', disk, at('whole.img'), '--json')).out)
    const left = parse((await imbarco('copy', disk, at('left.img'), '--skip-page-files', '--no-verify', '--json')).out)
    expect([whole.verified, left.verified, left.digest]).toEqual([true, false, ''])
    expect(whole.writtenBytes - left.writtenBytes).toBeGreaterThanOrEqual(2 * MIB)
    const page = (await imbarco('cat', at('left.img'), '3', '/pagefile.sys')).out
    expect([page.length, /^\0*$/.test(page)]).toEqual([3 * MIB, true])
    expect((await imbarco('copy', disk, at('left.img'), '--no-verify', '--overwrite')).out).toMatch(/not read back/)
  })

  it('saves no list of lost sectors when nothing was lost, and refuses one that is malformed', async () => {
    const list = at('lost.json')
    expect(
      (await imbarco('copy', disk, at('listed.img'), '--lost-list', list, '--journal', at('l.journal'))).code,
    ).toBe(0)
    expect(existsSync(list)).toBe(false)
    writeFileSync(list, '{ "format": "another" }')
    const refused = await imbarco(
      ...['copy', disk, at('listed.img'), '--lost-list', list, '--journal', at('l.journal'), '--resume'],
    )
    expect([refused.code, refused.error]).toEqual([1, expect.stringMatching(/Line 1, column \d+/)])
  })

  it('writes its journal and its list over nothing that is something else, the source least of all', async () => {
    const before = digestOfFile(disk)
    const letter = at('letter.txt')
    writeFileSync(letter, 'a letter to somebody')
    const child = childOf('disk.img', 400 * MIB)
    for (const [args, sentence] of [
      [['--journal', disk], /The journal is the source itself, which is never written/],
      [['--lost-list', disk], /The list of lost sectors is the source itself/],
      [['--journal', at('n.img')], /The journal and the target are one file/],
      [['--journal', letter], /letter\.txt is there already and is not the journal of a copy, so it is kept/],
      [['--lost-list', letter], /letter\.txt is there already and is no list of lost sectors, so it is kept/],
    ] as const) {
      const { code, error } = await imbarco('copy', disk, at('n.img'), ...args)
      expect([code, error]).toEqual([2, expect.stringMatching(sentence)])
      expect(existsSync(at('n.img'))).toBe(false)
    }
    // What an image builds on is its source too.
    const own = await imbarco('copy', child, disk, '--overwrite')
    expect([own.code, own.error]).toEqual([2, expect.stringMatching(/The target is the source itself/)])
    expect(digestOfFile(disk)).toBe(before)
    expect(readFileSync(letter, 'utf8')).toBe('a letter to somebody')
  })

  it('keeps a list of what is lost for raw targets only, which it says', async () => {
    const { code, error } = await imbarco('copy', disk, at('x.qcow2'), '--lost-list', at('x.json'))
    expect([code, error]).toEqual([2, expect.stringMatching(/for raw targets/)])
    expect(existsSync(at('x.qcow2'))).toBe(false)
  })

  it.each(deep ? TARGET_KINDS.filter((kind) => kind !== 'raw') : ['vhdx', 'qcow2-packed'])(
    'of the format %s that was killed has another name and is no image, and goes on to the same disk',
    async (to) => {
      const [target, journal] = [at(`killed-${to}`), at(`killed-${to}.journal`)]
      const args = ['copy', full, target, '--every-sector', '--to', to, '--journal', journal, '--json']
      const unfinished = `${target}.unfinished`
      // Beyond 100 MB, or where a quick host has copied all by the next word, right after that.
      const late = /"copiedBytes":\d{9}|"phase":"check"/
      expect(await untilPowerCut(args, late)).toBe('SIGKILL')
      expect([existsSync(target), existsSync(unfinished)]).toEqual([false, true])
      expect((await imbarco('survey', unfinished)).out).toMatch(/unfinished|did not end/i)
      expect((await imbarco(...args, '--resume')).code).toBe(0)
      expect(existsSync(unfinished)).toBe(false)
      expect(parse((await imbarco('compare', full, target, '--json')).out)).toMatchObject({ equal: true })
      for (const file of [target, journal]) rmSync(file)
    },
  )
})

describe('imbarco copy of what is not in use', () => {
  it('takes it of the volumes that are named, and of no other', async () => {
    // A trace of an old file in free room of the system volume, and one in the recovery volume.
    const marks = [300, 380].map((mib) => ({ at: mib * MIB, text: Buffer.from(`old file at ${mib}`) }))
    const source = at('traces.img')
    copyFileSync(disk, source)
    const file = openSync(source, 'r+')
    for (const { at: offset, text } of marks) writeSync(file, text, 0, text.length, offset)
    closeSync(file)
    const has = (target: string) => {
      const bytes = readFileSync(target)
      return marks.map(({ at: offset, text }) => bytes.subarray(offset, offset + text.length).equals(text))
    }
    expect(has(source)).toEqual([true, true])
    for (const [everyOf, wanted] of [
      [[], [false, false]],
      [
        ['--every-of', '3'],
        [true, false],
      ],
      [
        ['--every-of', '4,3'],
        [true, true],
      ],
    ] as const) {
      const target = at(`of ${everyOf.join(' ')}.img`)
      expect((await imbarco('copy', source, target, '--rule', '3=keep', ...everyOf)).code).toBe(0)
      expect(has(target)).toEqual(wanted)
    }
    expect((await imbarco('copy', source, at('none.img'), '--rule', '3=keep', '--every-of', '9')).error).toMatch(
      /no partition 9 on the source/,
    )
  })
})
