import { spawn, spawnSync } from 'node:child_process'
import {
  copyFileSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  writeFileSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest'
import { digestOfFile, imbarco } from './support/image-files'
import { diskGuid, gdiskPartitions, gdiskProblems } from './support/independent'
import { canHaveLoops, CHART, failsIn, Loops, run, sectorOf, systemDisk } from './support/loops'

const MIB = 1024 * 1024

/** Whether the kernel looks for partitions by itself. */
const parsesTables = existsSync('/sys/class/block/vda1') || existsSync('/sys/class/block/sda1')

vi.setConfig({ testTimeout: 120_000 })

// Where the kernel gives none, as in most containers, this is skipped as a whole.
describe.runIf(canHaveLoops())('a drive of this computer', () => {
  let folder: string
  let source: string
  let sizeBytes: number
  let loops: Loops

  beforeAll(async () => {
    folder = mkdtempSync(path.join(tmpdir(), 'imbarco-devices-'))
    loops = new Loops(folder)
    source = path.join(folder, 'source.img')
    sizeBytes = await systemDisk(source)
  })

  afterEach(() => loops.release())

  afterAll(() => rmSync(folder, { recursive: true, force: true }))

  const attach = (file: string, ...options: string[]) => loops.attach(file, ...options)
  const blank = (name: string, bytes: number) => loops.blank(name, bytes)
  const plateOf = (loop: string) => String(Number(run('blockdev', '--getsz', loop))).slice(-4)
  const copy = (from: string, to: string, ...options: string[]) => imbarco('copy', from, to, ...options)

  it('is listed with what names it, and surveyed as an image is', async () => {
    const loop = attach(source, '-r')
    const { drives } = JSON.parse((await imbarco('drives', '--loops', '--json')).out) as {
      drives: { file: string; sizeBytes: number; plate: string; serial: string | null; uses: string[] }[]
    }
    expect(drives.find((d) => d.file === loop)).toMatchObject({
      ...{ sizeBytes, plate: plateOf(loop), serial: null, uses: [], transport: 'loop', backingFile: source },
    })
    const [there, here] = await Promise.all([loop, source].map((file) => imbarco('survey', file, '--json')))
    const partitionsOf = (text: string) => (JSON.parse(text) as { partitions: unknown[] }).partitions
    expect(partitionsOf(there.out)).toEqual(partitionsOf(here.out))
    expect(JSON.parse(there.out)).toMatchObject({ plate: plateOf(loop) })
    expect((await imbarco('survey', loop, '--sector-size', '4096')).error).toMatch(/says itself/)
  })

  it('is written by its plate, and holds what a copy into a file holds', async () => {
    const from = attach(source, '-r')
    const larger = sizeBytes + 64 * MIB
    const target = attach(blank('target.img', larger))
    for (const plate of [[], ['--plate', '0000']]) {
      const refused = await copy(from, target, ...plate)
      expect([refused.code, /--plate/.test(refused.error)]).toEqual([2, true])
    }
    expect((await copy(from, target, '--plate', plateOf(target))).error).toBe('')
    if (parsesTables) {
      const [, ...seen] = run('lsblk', '-nro', 'NAME', target).split('\n')
      expect(seen.length).toBeGreaterThanOrEqual(3)
    }
    const plain = path.join(folder, 'plain.img')
    expect((await copy(source, plain, '--target-size', `${larger}`)).code).toBe(0)
    expect((await imbarco('compare', target, plain)).code).toBe(0)
    // It holds something now, so it is not written over by chance.
    expect((await copy(from, target, '--plate', plateOf(target))).error).toMatch(/not empty/)
  })

  it('is written in its own sectors of 4096, and its files are read by another driver', async () => {
    const from = attach(source, '-r')
    const data = attach(blank('data.img', sizeBytes), '-b', '4096')
    const whole = await copy(from, data, '--plate', String(sizeBytes / 4096).slice(-4))
    // Volumes laid out in shorter sectors do not go onto longer ones, which is said and not done.
    expect(whole.code).toBeGreaterThan(0)
    expect(whole.error + whole.out).toMatch(/4096|sector/i)
    const same = attach(blank('same.img', sizeBytes))
    expect((await copy(from, same, '--plate', plateOf(same))).code).toBe(0)
    const mount = path.join(folder, 'mount')
    mkdirSync(mount)
    const [{ first, last }] = [...gdiskPartitions(path.join(folder, 'same.img')).values()].sort(
      (a, b) => b.last - b.first - (a.last - a.first),
    )
    const place = ['-o', `${first * 512}`, '--sizelimit', `${(last - first + 1) * 512}`]
    run('ntfs-3g', '-o', 'ro', attach(path.join(folder, 'same.img'), '-r', ...place), mount)
    loops.atEnd(() => spawnSync('umount', [mount]))
    expect(readFileSync(path.join(mount, 'Charts', 'north.tif')).equals(Buffer.from(CHART))).toBe(true)
  })

  it('is refused as a target while anything uses it, naming what does', async () => {
    const target = attach(blank('used.img', sizeBytes))
    const plate = ['--plate', plateOf(target), '--overwrite']
    const said = async (from = source) => (await copy(from, target, ...plate)).error
    const before = () => run('sha256sum', target)
    run('mkfs.ext4', '-q', '-F', target)
    const untouched = before()
    const mount = mkdtempSync(path.join(folder, 'a place '))
    run('mount', target, mount)
    expect(await said()).toMatch(/in use/)
    run('umount', mount)
    run('mkswap', '-f', target)
    if (spawnSync('swapon', [target]).status === 0) {
      expect(await said()).toMatch(/in use|swapped on/)
      run('swapoff', target)
    }
    run('mkfs.ext4', '-q', '-F', target)
    // One that is open to another program for itself alone.
    const holder = spawn('python3', [
      '-c',
      'import os,sys; os.open(sys.argv[1], os.O_RDWR | os.O_EXCL); print("has it", flush=True); sys.stdin.read()',
      target,
    ])
    await new Promise((has) => holder.stdout.once('data', has))
    expect(await said()).toMatch(/in use by the system or another program/)
    holder.kill()
    await new Promise((left) => holder.once('close', left))
    // Another loop device over it, and what it lies on itself.
    const over = attach(target, '-r')
    expect(await said()).toMatch(new RegExp(`stands behind ${path.basename(over)}`))
    loops.detach(over)
    expect(await said(path.join(folder, 'used.img'))).toMatch(/source itself|what it lies on/)
    expect(await said(target)).toMatch(/source itself/)
    expect(untouched).toMatch(/^[0-9a-f]{64}/)
  })

  it('that fails in places gives what it has, and what it does not is named by sector and file', async () => {
    const bad = sectorOf(readFileSync(source), CHART) + 2051
    const file = await loops.throughCommand('failing', source, failsIn(bad * 512, (bad + 3) * 512))
    const loop = attach(file, '-r')
    const target = attach(blank('rescued.img', sizeBytes))
    const result = await copy(loop, target, '--plate', plateOf(target), '--json')
    const { lost } = JSON.parse(result.out) as { lost: { sourceLba: number; sectors: number; files: string[] }[] }
    // The kernel's loop reads its file in pages, so a page is the least that one of them loses.
    expect(lost.length).toBe(1)
    const [{ sourceLba, sectors, files }] = lost
    expect([sourceLba <= bad, sourceLba + sectors >= bad + 3, sectors <= 16]).toEqual([true, true, true])
    expect(files).toEqual(['/Charts/north.tif'])
    expect(result.code).toBe(1)
  })

  it('that takes nothing is said not to, and is written once it does again', async () => {
    const trigger = path.join(folder, 'fails')
    const target = attach(await loops.failingToWrite('tired', sizeBytes, trigger))
    const plate = ['--plate', plateOf(target)]
    writeFileSync(trigger, '')
    const failed = await copy(source, target, ...plate)
    expect([failed.code > 0, failed.error]).toEqual([
      true,
      expect.stringMatching(/did not (take|store) what was written/),
    ])
    rmSync(trigger)
    expect((await copy(source, target, ...plate)).error).toBe('')
    expect((await imbarco('compare', source, target)).code).toBe(0)
  })

  it('that is smaller than it says is found out, and nothing of it called equal', async () => {
    // Past what the kernel keeps of the file below, too: that would give back what the drive has forgotten.
    const target = attach(await loops.smallerThanItSays('small', sizeBytes, 100 * MIB), '--direct-io=on')
    const result = await copy(source, target, '--plate', plateOf(target))
    expect(result.code).toBeGreaterThan(0)
    expect(result.error).toMatch(/give back|differ/)
    expect(result.out).not.toMatch(/equal/)
  })

  it('that can forget gives zeros where nothing was copied, and nothing of what it held', async () => {
    const file = blank('noisy.img', sizeBytes)
    writeFileSync(file, Buffer.alloc(sizeBytes, 0xa5))
    const target = attach(file)
    // The file below is one that takes holes, so that the drive promises zeros.
    const queue = `/sys/block/${path.basename(target)}/queue`
    const promises = ['discard_max_bytes', 'write_zeroes_max_bytes'].every(
      (name) => Number(readFileSync(path.join(queue, name), 'utf8')) > 0,
    )
    const { code } = await copy(source, target, '--plate', plateOf(target), '--overwrite')
    expect([code, (await imbarco('compare', source, target)).code]).toEqual([0, promises ? 0 : 1])
  })

  it('cannot be mounted while it is written', async () => {
    const from = attach(await loops.throughCommand('slow', source, 'sleep 0.01'), '-r')
    const target = attach(blank('watched.img', sizeBytes))
    const journal = path.join(folder, 'watched.journal')
    const copying = spawn('bin/imbarco', ['copy', from, target, '--plate', plateOf(target), '--journal', journal])
    const ended = new Promise((end) => copying.once('close', end))
    const mount = path.join(folder, 'watched')
    mkdirSync(mount)
    // It is held from before the first write until it is whole. A mount tried earlier would itself be in the way of that.
    await vi.waitUntil(() => existsSync(journal) || copying.exitCode !== null, { timeout: 60_000, interval: 20 })
    const { stderr } = spawnSync('mount', ['-t', 'ext4', target, mount], { encoding: 'utf8' })
    expect([copying.exitCode, stderr]).toEqual([null, expect.stringMatching(/already mounted|busy/)])
    expect(await ended).toBe(0)
    expect((await imbarco('compare', source, target)).code).toBe(0)
  })

  describe('that holds a system', () => {
    let file: string
    let target: string
    let journals: string
    let by: string[]

    beforeEach(() => {
      const place = mkdtempSync(path.join(folder, 'changed-'))
      file = path.join(place, 'disk.img')
      copyFileSync(source, file)
      target = attach(file)
      journals = path.join(place, 'journals')
      mkdirSync(journals)
      by = ['--plate', plateOf(target), '--journals', journals]
    })

    /** A volume of it, as a device that other programs look at. */
    const volume = (number: number) => {
      const { first, last } = gdiskPartitions(file).get(number)!
      return attach(file, '-r', '-o', `${first * 512}`, '--sizelimit', `${(last + 1 - first) * 512}`)
    }

    it('is changed in its place only by its plate, with a place for what stood there, and while nothing uses it', async () => {
      const before = digestOfFile(file)
      const said = async (...words: string[]) => {
        const { code, error } = await imbarco(...words)
        return [code > 0, error]
      }
      const label = ['label', target, '3', 'NEW']
      expect(await said(...label, '--plate', plateOf(target))).toEqual([true, expect.stringMatching(/--journals/)])
      expect((await imbarco(...label, '--dry-run')).code).toBe(0)
      const wrong = ['--plate', '0000', '--journals', journals]
      for (const words of [label, ['shrink', target, '3', '64MiB'], ['repair', target, 'disk-identity']])
        expect(await said(...words, ...wrong)).toEqual([true, expect.stringMatching(/--plate/)])
      const over = attach(target, '-r')
      expect(await said(...label, ...by)).toEqual([true, expect.stringMatching(/in use/)])
      loops.detach(over)
      expect([digestOfFile(file), readdirSync(journals)]).toEqual([before, []])
    })

    it('gets another label, a smaller volume and another identity, which can be taken back', async () => {
      expect((await imbarco('label', target, '3', 'TIDE', ...by)).error).toBe('')
      expect(run('ntfslabel', '-n', volume(3))).toBe('TIDE')
      const before = digestOfFile(file)
      const bytesOf = () => {
        const { first, last } = gdiskPartitions(file).get(3)!
        return (last + 1 - first) * 512
      }
      const bytes = bytesOf()
      expect((await imbarco('shrink', target, '3', `${bytes - 16 * MIB}`, ...by)).error).toBe('')
      expect(run('ntfsinfo', '-m', volume(3))).toMatch(/TIDE/)
      expect(bytesOf()).toBe(bytes - 16 * MIB)
      expect((await imbarco('shrink', target, '3', '--undo', ...by)).error).toBe('')
      expect(digestOfFile(file)).toBe(before)
      const guid = diskGuid(file)
      expect((await imbarco('repair', target, 'disk-identity', ...by)).error).toBe('')
      expect([diskGuid(file) !== guid, gdiskProblems(file)]).toEqual([true, ''])
      // What stood there lies where it was told to, once for each change.
      expect(readdirSync(journals).length).toBe(2)
    })
  })

  it('gets one volume into a prepared partition, by its plate and never from itself', async () => {
    const file = blank('prepared.img', sizeBytes + 64 * MIB)
    const { first, last } = gdiskPartitions(source).get(3)!
    run('sgdisk', '-n', '1:2048:+16M', '-n', `2:0:+${Math.ceil((last + 1 - first) / 2048) + 1}M`, file)
    const target = attach(file)
    const journals = mkdtempSync(path.join(folder, 'journals-'))
    const into = ['--volumes', '3', '--into', '2', '--journals', journals, '--json']
    const by = ['--plate', plateOf(target)]
    expect((await imbarco('restore', source, target, ...into)).error).toMatch(/--plate/)
    expect((await imbarco('restore', file, target, ...into, ...by)).error).toMatch(/source itself/)
    const { code, out } = await imbarco('restore', source, target, ...into, ...by)
    expect([code, JSON.parse(out)]).toEqual([0, expect.objectContaining({ verified: true })])
    const there = gdiskPartitions(file).get(2)!
    const bytes = (there.last + 1 - there.first) * 512
    const volume = attach(file, '-r', '-o', `${there.first * 512}`, '--sizelimit', `${bytes}`)
    expect([run('ntfslabel', '-n', volume), gdiskProblems(file)]).toEqual(['Harbour', ''])
  })

  it('is lent to be written over by its plate', async () => {
    const target = attach(blank('lent.img', sizeBytes))
    const lend = ['lend', target, '--writable', '--allow', '--json', '--port', '0', '--once']
    expect((await imbarco(...lend, '--plate', '0000')).code).toBe(2)
    const lender = spawn('bin/imbarco', [...lend, '--plate', plateOf(target)])
    const line = await new Promise<string>((said) => lender.stdout.once('data', (text) => said(String(text))))
    const { uri, code } = JSON.parse(line) as { uri: string; code: string }
    expect((await copy(source, uri, '--code', code)).error).toBe('')
    await new Promise((over) => lender.once('close', over))
    expect((await imbarco('compare', source, target)).code).toBe(0)
  })

  it('is refused where it is write-protected or no drive', async () => {
    const from = attach(source, '-r')
    const other = attach(blank('other.img', sizeBytes), '-r')
    expect((await copy(from, other, '--plate', plateOf(other))).error).toMatch(/write-protected/)
    expect((await copy(source, '/dev/null', '--plate', '0000')).code).toBeGreaterThan(0)
  })

  it.runIf(parsesTables)('is refused where it is a partition, which is read by itself', async () => {
    const part = `${attach(blank('parts.img', sizeBytes), '-P')}p1`
    expect((await copy(source, part, '--plate', '0000')).error).toMatch(/partition/)
    expect((await imbarco('survey', part)).code).toBe(0)
  })
})
