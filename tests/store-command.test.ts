import { execFileSync } from 'node:child_process'
import {
  closeSync,
  copyFileSync,
  existsSync,
  mkdtempSync,
  openSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  truncateSync,
  writeFileSync,
  writeSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { noise } from '@/bench/random'
import { pattern } from '@/core/testing'
import { makeSystemDisk } from '@/core/testing-disk'
import { diskDigest, imbarco, digestOfFile, sparseFile } from './support/image-files'

const MIB = 1024 * 1024
let folder: string
let disk: string
const at = (name: string) => path.join(folder, name)
const parse = (text: string) => JSON.parse(text)
const TEMPORARY = '/Users/clerk/AppData/Local/Temp/left.tmp'

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-store-'))
  disk = at('disk.img')
  const device = await makeSystemDisk({
    systemFiles: [
      { path: '/pagefile.sys', content: pattern(3 * MIB, 7) },
      { path: '/Windows/Temp/setup.log', content: pattern(300_000, 9) },
      { path: TEMPORARY, content: pattern(500_000, 8) },
      { path: '/Harbour/rates.txt', content: Buffer.from('harbour dues') },
      { path: '/large.bin', content: noise(6 * MIB, 4) },
    ],
  })
  const parts: [number, Uint8Array][] = []
  for (const { offset, length } of await device.mapped(0, device.size)) {
    const bytes = new Uint8Array(length)
    await device.read(offset, bytes)
    parts.push([offset, bytes])
  }
  // A trace of an old file, in free room of the system volume.
  parts.push([350 * MIB, noise(8 * MIB, 5)])
  sparseFile(disk, device.size, parts)
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

/** Changes one byte of a file. */
function spoil(file: string, offset: number): void {
  const open = openSync(file, 'r+')
  writeSync(open, Uint8Array.of(readFileSync(file)[offset] ^ 0xff), 0, 1, offset)
  closeSync(open)
}

describe('imbarco capture', () => {
  it('takes what is in use, and keeps a record by which the image is proved at any time', async () => {
    const before = digestOfFile(disk)
    const image = at('kept.vhdx')
    const { code, out } = await imbarco('capture', disk, image, '--json')
    expect(code).toBe(0)
    const report = parse(out)
    expect(report).toMatchObject({ format: 'vhdx', virtualBytes: 400 * MIB, verified: true, lost: [], leftOut: [] })
    expect(report.maps.every((map: { checked: boolean }) => map.checked)).toBe(true)
    expect(digestOfFile(disk)).toBe(before)
    const record = parse(readFileSync(`${image}.record.json`, 'utf8'))
    expect(record).toMatchObject({ how: 'capture', verified: true, image: { name: 'kept.vhdx', format: 'vhdx' } })
    expect(record.survey.partitions.map((p: { number: number }) => p.number)).toEqual([1, 2, 3, 4])
    expect(parse((await imbarco('verify', image, '--json')).out)).toMatchObject({
      equal: true,
      differing: [],
      strange: [],
    })
    // The trace of what is not in use did not come along; all else is the same disk.
    const different = parse((await imbarco('compare', disk, image, '--json')).out)
    expect(different.ranges).toEqual([{ offset: 350 * MIB, length: 8 * MIB }])
    expect((await imbarco('cat', image, '3', '/Harbour/rates.txt')).out).toBe('harbour dues')
    expect(diskDigest(image, 'vhdx')).toMatch(/^[0-9a-f]{64}$/)
  })

  it('leaves files out of the image on request, and never out of the source', async () => {
    const image = at('left.qcow2')
    const before = digestOfFile(disk)
    const report = parse((await imbarco('capture', disk, image, '--leave-out', 'pagefile,temporary', '--json')).out)
    const paths = report.leftOut.map((file: { path: string }) => file.path)
    expect(paths).toEqual(expect.arrayContaining(['/pagefile.sys', '/Windows/Temp/setup.log', TEMPORARY]))
    const temporary = execFileSync('bin/imbarco', ['cat', image, '3', TEMPORARY])
    expect([temporary.length, temporary.every((byte) => byte === 0)]).toEqual([500_000, true])
    expect((await imbarco('cat', image, '3', '/Harbour/rates.txt')).out).toBe('harbour dues')
    expect(digestOfFile(disk)).toBe(before)
    const refused = await imbarco('capture', disk, at('x.qcow2'), '--leave-out', 'everything')
    expect(refused.code).toBe(2)
  })

  it('takes the volumes that are named, with a table that has no others', async () => {
    const image = at('some.qcow2')
    expect((await imbarco('capture', disk, image, '--volumes', '1,3')).code).toBe(0)
    const survey = parse((await imbarco('survey', image, '--json')).out)
    expect(survey.partitions.map((p: { number: number }) => p.number)).toEqual([1, 3])
    expect((await imbarco('cat', image, '3', '/Harbour/rates.txt')).out).toBe('harbour dues')
    expect(parse((await imbarco('verify', image, '--json')).out).equal).toBe(true)
    const refused = await imbarco('capture', disk, at('none.qcow2'), '--volumes', '9')
    expect([refused.code, refused.error]).toEqual([2, expect.stringMatching(/no partition 9/)])
  })

  it('leaves nothing under the name where it cannot be made', async () => {
    const missing = await imbarco('capture', disk, at('no/such/folder.vhdx'))
    expect(missing.code).toBe(2)
    writeFileSync(at('taken.vhdx'), 'a letter')
    expect((await imbarco('capture', disk, at('taken.vhdx'))).code).toBe(2)
    expect(readFileSync(at('taken.vhdx'), 'utf8')).toBe('a letter')
    const large = sparseFile(at('large.img'), 3 * 1024 ** 4, [])
    expect((await imbarco('capture', large, at('large.vhd'))).code).toBe(1)
    expect(readdirSync(folder).filter((name) => name.startsWith('large.vhd') || name.startsWith('.large'))).toEqual([])
  })
})

describe('imbarco verify', () => {
  it('names what is not as it was, and the files in it', async () => {
    const image = at('spoiled.img')
    expect((await imbarco('capture', disk, image)).code).toBe(0)
    const { ranges } = parse((await imbarco('compare', disk, image, '--json')).out)
    expect(ranges).toHaveLength(1)
    const bytes = readFileSync(image)
    const inFile = bytes.indexOf(Buffer.from(noise(6 * MIB, 4).subarray(0, 64)))
    spoil(image, inFile + 70_000)
    // Where nothing was recorded something stands now.
    const other = openSync(image, 'r+')
    writeSync(other, Buffer.from('stray'), 0, 5, 351 * MIB)
    closeSync(other)
    const { code, out } = await imbarco('verify', image, '--json')
    const report = parse(out)
    expect([code, report.equal, report.differing.length]).toEqual([1, false, 1])
    expect(report.strange.length).toBeGreaterThan(0)
    expect(report.touched.files).toContainEqual({ partition: 3, path: '/large.bin' })
    const people = await imbarco('verify', image)
    expect([people.code, people.out]).toEqual([1, expect.stringContaining('/large.bin')])
    const refused = await imbarco('restore', image, at('not-restored.img'), '--check')
    expect([refused.code, existsSync(at('not-restored.img'))]).toEqual([1, false])
  })

  it('says of an image that is cut short, and of a record that is none, what they are', async () => {
    const image = at('cut.qcow2')
    expect((await imbarco('capture', disk, image)).code).toBe(0)
    truncateSync(image, Math.floor(statSync(image).size / 2))
    expect((await imbarco('verify', image)).code).toBe(1)
    const none = await imbarco('verify', disk)
    expect([none.code, none.error]).toEqual([2, expect.stringMatching(/no record beside disk\.img/)])
    copyFileSync(disk, at('copied.img'))
    for (const text of ['', '{', '[]', '{"format":"imbarco image record"}', 'x'.repeat(4000)]) {
      writeFileSync(at('copied.img.record.json'), text)
      expect((await imbarco('verify', at('copied.img'))).code).toBe(1)
    }
    // One whose stretches lie where the disk has nothing.
    const record = parse(readFileSync(`${image}.record.json`, 'utf8'))
    for (const extents of [Buffer.alloc(16, 0xff).toString('base64'), 'AAAA', '']) {
      writeFileSync(at('copied.img.record.json'), JSON.stringify({ ...record, extents }))
      const { code, error } = await imbarco('verify', at('copied.img'))
      expect([code, error]).toEqual([1, expect.stringMatching(/extents/)])
    }
  })
})

describe('imbarco restore', () => {
  it.each([
    ['larger', '700MiB'],
    ['smaller', '340MiB'],
  ])('puts an image onto a %s drive', async (_what, size) => {
    const image = at('to-restore.qcow2')
    if (!existsSync(image)) expect((await imbarco('capture', disk, image, '--to', 'qcow2-packed')).code).toBe(0)
    const target = at(`restored-${size}.img`)
    const args = ['restore', image, target, '--target-size', size, '--rule', '4=keep', '--check', '--json']
    const { code, out, error } = await imbarco(...args)
    expect([code, error]).toEqual([0, expect.anything()])
    expect(parse(out)).toMatchObject({ fits: true, verified: true })
    expect((await imbarco('cat', target, '3', '/Harbour/rates.txt')).out).toBe('harbour dues')
    execFileSync('/usr/sbin/sgdisk', ['--verify', target])
  })
})

describe('imbarco compact', () => {
  it('writes a disk anew without what was freed and zeros that take room, bounded by what is in use', async () => {
    // All of the disk stored, the zeros of it too, as use over years leaves it.
    const grown = at('grown.vhd')
    expect((await imbarco('convert', disk, grown, '--to', 'vhd-fixed')).code).toBe(0)
    writeFileSync(grown, readFileSync(grown))
    const compacted = at('compacted.vhd')
    const { code, out } = await imbarco('compact', grown, compacted, '--to', 'vhd', '--json')
    expect(code).toBe(0)
    const report = parse(out)
    expect(report.sourceHostBytes).toBeGreaterThan(390 * MIB)
    expect(report.hostBytes).toBeLessThan(80 * MIB)
    expect(report.verified).toBe(true)
    expect(existsSync(grown)).toBe(true)
    expect(parse((await imbarco('compare', grown, compacted, '--json')).out).ranges).toEqual([
      { offset: 350 * MIB, length: 8 * MIB },
    ])
    expect(parse((await imbarco('verify', compacted, '--json')).out).equal).toBe(true)
  })
})

describe('imbarco vm', () => {
  const machineArgs = ['--memory', '8GiB', '--processors', '4', '--name', 'Ticket desk', '--json']

  it('makes a package in a folder whose parts other programs read, and which tells why it is as it is', async () => {
    const out = at('ticket desk')
    const second = sparseFile(at('second.img'), 64 * MIB, [[MIB, noise(MIB, 6)]])
    const { code, out: said } = await imbarco('vm', disk, second, '--out', out, ...machineArgs)
    expect(code).toBe(0)
    const report = parse(said)
    expect(report.machine).toMatchObject({ firmware: 'uefi', processors: 4, memory: { mostBytes: 8 * 1024 ** 3 } })
    expect(report.machine.disks.map((d: { sizeBytes: number }) => d.sizeBytes)).toEqual([400 * MIB, 64 * MIB])
    expect(report.reasons.join(' ')).toMatch(/starts by UEFI/)
    expect(report.machine.networkCards).toEqual([{ name: 'Network 1', connected: false, vlan: 0 }])
    expect(report.verified).toBe(true)
    const files = readdirSync(out)
    expect(files.sort()).toEqual(report.files.map((f: { file: string }) => f.file).sort())
    execFileSync('xmllint', ['--noout', path.join(out, 'ticket desk.ovf')])
    // As sha256sum takes it: digest, two blanks, name.
    const manifest = readFileSync(path.join(out, 'ticket desk.mf'), 'utf8')
    const sums = manifest.replace(/^SHA256\((.+)\)= ([0-9a-f]{64})$/gm, '$2  $1')
    execFileSync('sha256sum', ['-c', '--strict'], { cwd: out, input: sums })
    const [first, other] = report.machine.disks.map((d: { file: string }) => path.join(out, d.file))
    expect(diskDigest(other, 'vmdk')).toBe(digestOfFile(second))
    expect(parse((await imbarco('compare', disk, first, '--json')).out).ranges).toEqual([
      { offset: 350 * MIB, length: 8 * MIB },
    ])
    const refused = await imbarco('vm', disk, '--out', out)
    expect([refused.code, refused.error]).toEqual([2, expect.stringMatching(/of that name already/)])
  })

  it('makes one file of it, the descriptor first and the manifest behind it', async () => {
    const out = at('desk.ova')
    expect((await imbarco('vm', disk, '--out', out, ...machineArgs)).code).toBe(0)
    const names = execFileSync('tar', ['-tf', out], { encoding: 'utf8' }).trim().split('\n')
    expect(names).toEqual(['desk.ovf', 'desk.mf', 'Ticket desk-disk1.vmdk'])
    execFileSync('tar', ['-xf', out, '-C', folder])
    expect(parse((await imbarco('compare', disk, at('Ticket desk-disk1.vmdk'), '--json')).out).ranges).toHaveLength(1)
    expect(readdirSync(folder).filter((name) => name.includes('partial'))).toEqual([])
  })

  it('leaves nothing where it cannot be made', async () => {
    const missing = await imbarco('vm', disk, at('none.img'), '--out', at('no machine'))
    expect([missing.code, existsSync(at('no machine'))]).toEqual([2, false])
    expect((await imbarco('vm', disk, disk, '--out', at('twice'))).code).toBe(2)
    expect((await imbarco('vm', disk, '--out', at('deeper/desk.ova'))).code).toBe(2)
    expect(readdirSync(folder).filter((name) => name.includes('partial'))).toEqual([])
  })
})
