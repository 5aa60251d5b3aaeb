import { execFileSync, spawn } from 'node:child_process'
import {
  existsSync,
  linkSync,
  lstatSync,
  mkdirSync,
  mkdtempSync,
  readFileSync,
  rmSync,
  symlinkSync,
  utimesSync,
  writeFileSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { createInterface } from 'node:readline'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { noise } from '@/bench/random'
import { readBytes } from '@/core/block/device'
import { makeSystemDisk } from '@/core/testing-disk'
import { imbarco, sparseFile } from './support/image-files'

// What the command refuses, in one sentence and with the exit code of wrong use, writing nothing.

const MIB = 1024 * 1024
let folder: string
let disk: string
const at = (name: string) => path.join(folder, name)

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-refusals-'))
  disk = at('disk.img')
  const device = await makeSystemDisk()
  const parts: [number, Uint8Array][] = []
  for (const { offset, length } of await device.mapped(0, device.size)) {
    parts.push([offset, await readBytes(device, offset, length)])
  }
  sparseFile(disk, device.size, parts)
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

const oneSentence = /^[^\n]+\.\n$/

describe('a target that is no plain file', () => {
  it.each([
    ['a folder', () => (mkdirSync(at('folder')), at('folder')), /is a folder/],
    ['a pipe', () => (execFileSync('mkfifo', [at('pipe')]), at('pipe')), /device or a pipe/],
    ['a device', () => '/dev/null', /device or a pipe/],
    [
      'a link to a device',
      () => (symlinkSync('/dev/zero', at('to-device.img')), at('to-device.img')),
      /device or a pipe/,
    ],
    [
      'a link that leads nowhere',
      () => (symlinkSync(at('nowhere'), at('dangling.img')), at('dangling.img')),
      /leads nowhere/,
    ],
    ['in a folder that is not there', () => at('none/x.img'), /no folder/],
  ])('is refused: %s', async (_what, make, sentence) => {
    const target = make()
    const kind = existsSync(target) ? lstatSync(target).mode : undefined
    for (const args of [
      ['copy', disk, target, '--to', 'raw', '--overwrite'],
      ['copy', disk, target, '--to', 'raw', '--overwrite', '--journal', at('j.journal')],
      ['copy', disk, target, '--to', 'vhdx', '--overwrite'],
      ['convert', disk, target, '--to', 'qcow2'],
    ]) {
      const { code, error } = await imbarco(...args)
      expect([code, error], args.join(' ')).toEqual([2, expect.stringMatching(sentence)])
      expect(error).toMatch(oneSentence)
    }
    expect(existsSync(target) ? lstatSync(target).mode : undefined).toBe(kind)
    rmSync(at('j.journal'), { force: true })
  })

  it('but a link to a file is followed, and what it leads to is replaced', async () => {
    writeFileSync(at('real.img'), 'something')
    symlinkSync(at('real.img'), at('link.img'))
    expect((await imbarco('copy', disk, at('link.img'), '--overwrite')).code).toBe(0)
    expect(lstatSync(at('link.img')).isSymbolicLink()).toBe(true)
    expect((await imbarco('compare', disk, at('real.img'), '--json')).code).toBe(0)
  })
})

describe('the source under another name', () => {
  it.each(['copy', 'convert'])('is never written by %s', async (command) => {
    rmSync(at('other.img'), { force: true })
    linkSync(disk, at('other.img'))
    const before = readFileSync(disk)
    const { code, error } = await imbarco(
      command,
      disk,
      at('other.img'),
      ...(command === 'copy' ? ['--overwrite'] : []),
    )
    expect([code, error]).toEqual([2, expect.stringMatching(/source itself/)])
    expect(readFileSync(disk).equals(before)).toBe(true)
  })
})

describe('options that make no sense', () => {
  it.each([
    [['fit', 'DISK', '--align', '1000']],
    [['fit', 'DISK', '--align', '4TiB']],
    [['fit', 'DISK', '--order', '1,9']],
    [['fit', 'DISK', '--leave-out', '7']],
    [['fit', 'DISK', '--sector-size', '777']],
    [['copy', 'DISK', 'OUT', '--align', '3']],
    [['copy', 'DISK', 'OUT', '--leave-out', '44']],
    [['copy', 'DISK', 'OUT', '--every-of', '44']],
    [['copy', 'DISK', 'OUT', '--sector-size', '100']],
    [['copy', 'DISK', 'OUT', '--target-size', '9000000GiB']],
    [['survey', 'FOLDER']],
  ])('are told of: %j', async (args) => {
    const words = args.map((word) => ({ DISK: disk, OUT: at('out.img'), FOLDER: folder })[word] ?? word)
    const { code, error } = await imbarco(...words)
    expect([code, error.includes('    at ')]).toEqual([2, false])
    expect(error.trim()).not.toBe('')
    expect(existsSync(at('out.img'))).toBe(false)
  })
})

describe('a source that is written to while it is copied', () => {
  it.each([
    ['raw', 'touched.img', []],
    ['raw', 'touched-with-journal.img', ['--journal', 'touched.journal']],
    ['vhdx', 'touched.vhdx', []],
  ])('leaves no %s target that looks whole', async (to, name, more) => {
    const source = at('large.img')
    if (!existsSync(source)) {
      const piece = noise(32 * MIB, 3)
      sparseFile(
        source,
        640 * MIB,
        Array.from({ length: 20 }, (_, i) => [i * 32 * MIB, piece]),
      )
    }
    const target = at(name)
    const args = [
      'copy',
      source,
      target,
      '--every-sector',
      '--json',
      '--to',
      to,
      ...more.map((m) => (m.startsWith('-') ? m : at(m))),
    ]
    const child = spawn('bin/imbarco', args, { stdio: ['ignore', 'ignore', 'pipe'] })
    let said = ''
    let touched = false
    const touch = () => {
      if (touched) return
      touched = true
      utimesSync(source, new Date(), new Date())
    }
    createInterface({ input: child.stderr }).on('line', (line) => {
      if (line.startsWith('{')) touch()
      else said += line
    })
    const code = await new Promise((resolve) => child.once('exit', resolve))
    expect(touched).toBe(true)
    expect([code, said]).toEqual([1, expect.stringMatching(/was changed while it was read/)])
    if (more.length === 0) expect(existsSync(target)).toBe(false)
    else expect((await imbarco('survey', `${target}.unfinished`)).out).toMatch(/unfinished|did not end/i)
  })
})
