import { type ChildProcess, execFile, spawn } from 'node:child_process'
import { once } from 'node:events'
import { mkdtempSync, readFileSync, rmSync, statSync, truncateSync, writeFileSync } from 'node:fs'
import { createServer, type AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { createInterface } from 'node:readline'
import { promisify } from 'node:util'
import { afterAll, afterEach, beforeAll, describe, expect, it, vi } from 'vitest'
import { readBytes, UnreadableSectors } from '@/core/block/device'
import { pattern } from '@/core/testing'
import { makeSystemDisk } from '@/core/testing-disk'
import { blake3 } from '@/host/strong-digest'
import { nbdAddress } from '@/nbd/address'
import { type ClientOptions, NbdFile } from '@/nbd/client'
import { keyOfCode, keyOfText, newCode } from '@/nbd/key'
import { linkTo } from '@/nbd/testing'
import { imbarco, sparseFile } from './support/image-files'

// Programs that share no code with this one: nbdkit and nbd-server lend, nbdinfo and nbdcopy borrow.

const MIB = 1024 * 1024
const SIZE = 48 * MIB
const run = promisify(execFile)
let folder: string
let disk: string
const LARGE_BLOCKS = [
  'blocksize-minimum=64K',
  'blocksize-preferred=64K',
  'blocksize-maximum=1M',
  'blocksize-error-policy=error',
]
const pskFile = () => path.join(folder, 'key.psk')
const bytes = () => readFileSync(disk)
const running: ChildProcess[] = []

vi.setConfig({ testTimeout: 60_000 })

beforeAll(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-lend-'))
  disk = path.join(folder, 'Office disk.img')
  writeFileSync(disk, '')
  truncateSync(disk, SIZE)
  const content = Buffer.alloc(SIZE)
  content.set(pattern(3 * MIB, 5), 4 * MIB)
  content.set(pattern(MIB, 6), 33 * MIB)
  const file = path.join(folder, 'content')
  writeFileSync(file, content)
  // A copy with holes where zeros are.
  return run('cp', ['--sparse=always', file, disk])
})

afterEach(() => {
  for (const child of running.splice(0)) child.kill('SIGKILL')
})

afterAll(() => rmSync(folder, { recursive: true, force: true }))

const started = (program: string, args: readonly string[], input: 'pipe' | 'ignore' = 'ignore') => {
  const child = spawn(program, args, { stdio: [input, 'pipe', 'pipe'] })
  running.push(child)
  return child
}

/** Lends the disk by the command, and what it says line by line. */
async function lends(...options: string[]) {
  const child = started('bin/imbarco', ['lend', disk, '--port', '0', '--json', ...options], 'pipe')
  const lines = createInterface({ input: child.stdout! })[Symbol.asyncIterator]()
  const said = async () => JSON.parse((await lines.next()).value as string) as Record<string, unknown>
  const first = (await said()) as { uri: string; code: string; port: number; export: string; event: string }
  const { psk, ...rest } = { psk: pskFile(), ...first }
  return { child, said, ...rest, uriWithKey: `${first.uri}?tls-psk-file=${psk}` }
}

/** Settings of nbd-server for one export. */
function serverSettings(port: number): string {
  const file = path.join(folder, 'server.conf')
  writeFileSync(file, `[generic]\nallowlist=true\n[disk]\nexportname=${disk}\nport=${port}\nreadonly=true\n`)
  return file
}

async function freePort(): Promise<number> {
  const server = createServer().listen(0, '127.0.0.1')
  await once(server, 'listening')
  const { port } = server.address() as AddressInfo
  server.close()
  await once(server, 'close')
  return port
}

/** Another program lends; it is waited for until it answers. */
async function lentBy(program: string, args: (port: number) => string[], tls = false, exportName = '') {
  const port = await freePort()
  started(program, args(port))
  const uri = `nbd${tls ? 's' : ''}://imbarco@127.0.0.1:${port}/${exportName}`
  const open = async (options: ClientOptions = {}) => {
    const opened = await vi.waitUntil(
      () =>
        NbdFile.open(nbdAddress(uri), options).catch((error: Error) =>
          /refused/i.test(error.message) ? undefined : Promise.reject(error),
        ),
      { timeout: 20_000 },
    )
    return opened!
  }
  return { uri, open }
}

describe('the command', () => {
  it('lends to whoever has the key, and other programs read what is there', async () => {
    const { child, said, uri, code, uriWithKey, event, export: name } = await lends('--allow', '--psk-file', pskFile())
    expect([event, name]).toEqual(['lends', 'office-disk'])
    expect(statSync(pskFile()).mode & 0o777).toBe(0o600)
    const { stdout } = await run('nbdinfo', ['--map', '--json', uriWithKey])
    expect(JSON.parse(stdout)).toEqual(
      [
        [0, 4, 3],
        [4, 3, 0],
        [7, 26, 3],
        [33, 1, 0],
        [34, 14, 3],
      ].map(([offset, length, type]) => expect.objectContaining({ offset: offset * MIB, length: length * MIB, type })),
    )
    const copied = path.join(folder, 'copied')
    await run('nbdcopy', [uriWithKey, copied])
    expect(readFileSync(copied).equals(bytes())).toBe(true)
    // By the code, and by the file of the key.
    const out = path.join(folder, 'converted.img')
    expect((await imbarco('convert', uri, out, '--code', code.toLowerCase())).code).toBe(0)
    expect(readFileSync(out).equals(bytes())).toBe(true)
    expect((await imbarco('compare', uri, disk, '--psk-file', pskFile())).code).toBe(0)
    // Without it, or with another one, nothing is read.
    await expect(run('nbdinfo', [uri.replace('nbds', 'nbd')])).rejects.toThrow(/not supported/)
    expect((await imbarco('survey', uri.replace('nbds', 'nbd'))).error).toMatch(/by a key only/)
    expect((await imbarco('survey', uri, '--code', newCode())).error).toMatch(/does not take this key/)
    const events: unknown[] = []
    child.kill('SIGTERM')
    for (let next = await said().catch(() => undefined); next; next = await said().catch(() => undefined))
      events.push(next.event)
    expect(events).toContain('wrong key')
    expect(events.filter((e) => e === 'ended').length).toBeGreaterThanOrEqual(3)
  })

  it('answers a client that asks what it must not, and one that asks for digests', async () => {
    rmSync(pskFile(), { force: true })
    const { uriWithKey } = await lends('--allow', '--psk-file', pskFile())
    const script = `
import json
words = {}
def told(context, offset, entries, error):
    words[context] = list(entries)
def fails(work):
    try:
        work()
        return 0
    except nbd.Error as error:
        return error.errnum
h.set_uri_allow_local_file(True)
h.add_meta_context("base:allocation")
for i in range(4):
    h.add_meta_context("x-imbarco:blake3/%d" % i)
h.connect_uri("${uriWithKey}")
h.set_strict_mode(0)
size = h.get_size()
read = bytes(h.pread(1048576, 4 * 1048576))
h.block_status(1048576, 4 * 1048576, told, nbd.CMD_FLAG_REQ_ONE)
refused = [
    fails(lambda: h.pread(1024, size)),
    fails(lambda: h.pread(1024, size - 512)),
    fails(lambda: h.pread(64 * 1048576, 0)),
    fails(lambda: h.pwrite(b"x" * 512, 0)),
    fails(lambda: h.zero(512, 0)),
]
print(json.dumps({"size": size, "read": read[:16].hex(), "words": words, "refused": refused, "after": bytes(h.pread(4, 4 * 1048576)).hex()}))
`
    // Its library is there for the system's own Python.
    const env = { ...process.env, PATH: `/usr/bin:${process.env.PATH}` }
    const { stdout } = await run('nbdsh', ['-c', script], { env })
    const told = JSON.parse(stdout) as Record<string, unknown> & { words: Record<string, [number, number]> }
    const start = bytes().subarray(4 * MIB, 5 * MIB)
    const digest = Buffer.alloc(16)
    for (const word of [0, 1, 2, 3]) digest.writeUInt32BE(told.words[`x-imbarco:blake3/${word}`][1], 4 * word)
    expect(digest.equals(Buffer.from(blake3(start)).subarray(0, 16))).toBe(true)
    expect(told).toMatchObject({
      ...{ size: SIZE, read: start.subarray(0, 16).toString('hex'), after: start.subarray(0, 4).toString('hex') },
      words: { 'base:allocation': [MIB, 0], 'x-imbarco:blake3/0': [MIB, expect.any(Number)] },
    })
    for (const number of told.refused as number[]) expect([1, 22, 28, 34, 75]).toContain(number)
  })

  it('is gone on with after the lender was killed and lends by the same code again', async () => {
    const first = await lends('--allow')
    const file = await NbdFile.open(nbdAddress(first.uri), { key: keyOfCode(first.code) })
    const read = new Uint8Array(SIZE)
    const half = SIZE / 2
    await file.read(0, read.subarray(0, half))
    first.child.kill('SIGKILL')
    await once(first.child, 'exit')
    const rest = file.read(half, read.subarray(half))
    const again = ['lend', disk, '--json', '--allow', '--port', `${first.port}`, '--code', first.code]
    started('bin/imbarco', again)
    await rest
    expect(Buffer.from(read).equals(bytes())).toBe(true)
    await file.close()
  })

  it('asks before it gives, once, and ends when that is over', async () => {
    rmSync(pskFile(), { force: true })
    const { child, said, uriWithKey } = await lends('--psk-file', pskFile(), '--once')
    const over = once(child, 'exit')
    child.stdin!.write('no\n')
    await expect(run('nbdinfo', ['--size', uriWithKey])).rejects.toThrow(/nbd_opt_go|refused|policy|permitted/i)
    expect([(await said()).event, (await said()).event]).toEqual(['asks', 'refused'])
    child.stdin!.write('yes\n')
    expect((await run('nbdinfo', ['--size', uriWithKey])).stdout.trim()).toBe(String(SIZE))
    expect(await over).toEqual([0, null])
  })

  it('lends a target only to be written over where its name is typed, and flushes it', async () => {
    const target = path.join(folder, 'target.img')
    writeFileSync(target, '')
    truncateSync(target, SIZE)
    rmSync(pskFile(), { force: true })
    const refused = started('bin/imbarco', ['lend', target, '--port', '0', '--writable'], 'pipe')
    refused.stdin!.write('other.img\n')
    expect(await once(refused, 'exit')).toEqual([2, null])
    const child = started(
      'bin/imbarco',
      ['lend', target, '--port', '0', '--writable', '--once', '--json', '--psk-file', pskFile()],
      'pipe',
    )
    const over = once(child, 'exit')
    child.stdin!.write('target.img\nyes\n')
    const lines = createInterface({ input: child.stdout! })
    const [first] = (await once(lines, 'line')) as [string]
    const { uri } = JSON.parse(first) as { uri: string }
    await run('nbdcopy', ['--flush', '--connections=1', disk, `${uri}?tls-psk-file=${pskFile()}`])
    expect(await over).toEqual([0, null])
    expect(readFileSync(target).equals(bytes())).toBe(true)
  })

  it.each([
    [['--bind', '192.0.2.1'], /no such address/],
    [['--port', '70000'], /65535/],
    [['--partition', '7'], /partition 7/i],
    [['--psk-file', '/dev/null/key'], /key/],
  ])('refuses %j in a sentence', async (options, why) => {
    const child = started('bin/imbarco', ['lend', disk, '--allow', '--port', '0', ...options])
    let error = ''
    child.stderr!.on('data', (text) => (error += text))
    const [code] = (await once(child, 'close')) as [number]
    expect(code).toBeGreaterThan(0)
    expect(error).toMatch(why)
    expect(error).not.toMatch(/Imbarco failed/)
  })
})

describe('a copy onto what is lent', () => {
  it(
    'ends byte-equal through a link that is cut ten times and a lender that is killed once',
    { timeout: 240_000 },
    async () => {
      const source = path.join(folder, 'source.img')
      const system = await makeSystemDisk({
        systemFiles: [{ path: '/Charts/north.tif', content: pattern(24 * MIB, 6) }],
      })
      const parts: [number, Uint8Array][] = []
      for (const { offset, length } of await system.mapped(0, system.size))
        parts.push([offset, await readBytes(system, offset, length)])
      sparseFile(source, system.size, parts)
      const larger = system.size + 100 * MIB
      const [target, plain] = ['target', 'plain'].map((name) => path.join(folder, `${name}-copy.img`))
      writeFileSync(target, '')
      truncateSync(target, larger)
      const key = path.join(folder, 'copy.psk')
      const port = await freePort()
      const lender = (code: string[]) =>
        started('bin/imbarco', ['lend', target, '--writable', '--allow', '--json', '--port', `${port}`, ...code])
      const first = lender(['--psk-file', key])
      const [line] = (await once(createInterface({ input: first.stdout! }), 'line')) as [string]
      const { code } = JSON.parse(line) as { code: string }
      const link = await linkTo(port)
      const uri = `nbds://imbarco@127.0.0.1:${link.port}/target-copy?tls-psk-file=${key}`
      const copying = imbarco('copy', source, uri, '--journal', path.join(folder, 'copy.journal'))
      let over = false
      void copying.finally(() => (over = true))
      let cuts = 0
      for (; cuts < 10 && !over; cuts++) {
        await link.untilMoved(2 * MIB)
        if (cuts === 5) {
          first.kill('SIGKILL')
          await once(first, 'exit')
          lender(['--code', code])
        }
        link.cut()
      }
      const { code: end, error } = await copying
      expect([end, error.replace(/The connection is (lost, and taken up|there) again\.\n/g, '')]).toEqual([0, ''])
      expect(cuts).toBe(10)
      await link.close()
      expect((await imbarco('copy', source, plain, '--target-size', `${larger}`)).code).toBe(0)
      expect((await imbarco('compare', target, plain)).code).toBe(0)
      // It holds something now, so it is not written over by chance.
      expect((await imbarco('copy', source, uri.replace(`${link.port}`, `${port}`))).error).toMatch(/not empty/)
    },
  )

  it('is refused where its blocks are larger than sectors', async () => {
    const { uri, open } = await lentBy('nbdkit', (port) => [
      ...['-f', '-p', `${port}`, '--filter=blocksize-policy', 'memory', '48M', ...LARGE_BLOCKS],
    ])
    await (await open()).close()
    expect((await imbarco('copy', disk, uri, '--every-sector')).error).toMatch(/blocks of 65536 bytes/)
  })

  it('is refused where that is lent for reading', async () => {
    rmSync(pskFile(), { force: true })
    const { uriWithKey } = await lends('--allow', '--psk-file', pskFile())
    expect((await imbarco('copy', disk, uriWithKey, '--every-sector')).error).toMatch(/for reading only/)
  })
})

describe('what other programs lend', () => {
  const whole = async (file: NbdFile) => {
    const read = new Uint8Array(file.size)
    await file.read(0, read)
    await file.close()
    return Buffer.from(read)
  }

  it.each([
    ['a file by nbdkit', 'nbdkit', (port: number) => ['-f', '-p', `${port}`, 'file', disk], ''],
    [
      'one that answers late',
      'nbdkit',
      (port: number) => ['-f', '-p', `${port}`, '--filter=delay', 'file', disk, 'rdelay=20ms'],
      '',
    ],
    [
      'one in large blocks',
      'nbdkit',
      (port: number) => ['-f', '-p', `${port}`, '--filter=blocksize-policy', 'file', disk, ...LARGE_BLOCKS],
      '',
    ],
    ['a file by nbd-server', 'nbd-server', (port: number) => ['-C', serverSettings(port), '-d', `${port}`], 'disk'],
  ])('is read byte by byte: %s', async (_, program, args, name) => {
    const { open } = await lentBy(program, args, false, name)
    const file = await open()
    expect(file.size).toBe(SIZE)
    expect((await whole(file)).equals(bytes())).toBe(true)
  })

  it('is read through TLS by its key, and not by another', async () => {
    const file = path.join(folder, 'theirs.psk')
    writeFileSync(file, `imbarco:${'5a'.repeat(32)}\n`, { mode: 0o600 })
    const key = keyOfText(readFileSync(file, 'utf8'))
    const { open } = await lentBy(
      'nbdkit',
      (port) => ['-f', '-p', `${port}`, '--tls=require', `--tls-psk=${file}`, 'file', disk],
      true,
    )
    expect((await whole(await open({ key }))).equals(bytes())).toBe(true)
    await expect(open({ key: { ...key, key: Buffer.alloc(32, 1) } })).rejects.toThrow(/does not take this key/)
  })

  it('is written, and tells of its holes', async () => {
    const { open } = await lentBy('nbdkit', (port) => ['-f', '-p', `${port}`, 'memory', '16M'])
    const file = await open()
    await file.write(2 * MIB, pattern(MIB, 9))
    await file.zero(2 * MIB + 65_536, 65_536)
    await file.flush()
    const found = new Uint8Array(MIB)
    await file.read(2 * MIB, found)
    const wanted = pattern(MIB, 9)
    wanted.fill(0, 65_536, 131_072)
    expect(Buffer.compare(found, wanted)).toBe(0)
    const mapped = await file.mapped!(0, file.size)
    expect(mapped[0].offset).toBeGreaterThan(0)
    expect(mapped.every(({ offset, length }) => offset >= MIB && offset + length <= 4 * MIB)).toBe(true)
    await file.close()
  })

  it('tells its errors by sectors, and gives what is beside them', async () => {
    const gone = { from: 5 * MIB + 512, to: 5 * MIB + 2048 }
    const { open } = await lentBy('nbdkit', (port) => [
      '-f',
      '-p',
      `${port}`,
      'eval',
      `get_size=echo ${SIZE}`,
      // The handle comes first, then how many bytes and from where.
      `pread=if [ $4 -lt ${gone.to} ] && [ $(($4 + $3)) -gt ${gone.from} ]; then echo 'EIO sector' >&2; exit 1; fi; dd if='${disk}' skip=$4 count=$3 iflag=skip_bytes,count_bytes bs=65536 status=none`,
    ])
    const file = await open()
    const error = await file.read(4 * MIB, new Uint8Array(2 * MIB)).catch((e: unknown) => e)
    expect(error).toBeInstanceOf(UnreadableSectors)
    expect((error as UnreadableSectors).sectors).toEqual([1, 2, 3].map((i) => (5 * MIB) / 512 + i))
    const beside = new Uint8Array(MIB)
    await file.read(4 * MIB, beside)
    expect(Buffer.from(beside).equals(bytes().subarray(4 * MIB, 5 * MIB))).toBe(true)
    await file.close()
  })
})
