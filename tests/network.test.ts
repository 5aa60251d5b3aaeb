import { type ChildProcess, execFile, execFileSync, spawn, spawnSync } from 'node:child_process'
import { once } from 'node:events'
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { createInterface } from 'node:readline'
import { promisify } from 'node:util'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { pattern } from '@/core/testing'

// Two computers on one network, each a namespace of the kernel with a cable between them.

const MIB = 1024 * 1024
const SIZE = 64 * MIB
const [SHOP, FAR] = [`imbarco-shop-${process.pid}`, `imbarco-far-${process.pid}`]
const run = promisify(execFile)
const ip = (...args: string[]) => execFileSync('ip', args, { stdio: 'pipe' })
const within = (space: string, program: string, ...args: string[]) =>
  ['netns', 'exec', space, program, ...args] as const

function canHaveNamespaces(): boolean {
  if (process.getuid?.() !== 0) return false
  const made = spawnSync('ip', ['netns', 'add', `imbarco-try-${process.pid}`])
  if (made.status !== 0) return false
  ip('netns', 'del', `imbarco-try-${process.pid}`)
  return true
}

vi.setConfig({ testTimeout: 120_000, hookTimeout: 60_000 })

describe.runIf(canHaveNamespaces())('a disk that another computer lends', () => {
  let folder: string
  let disk: string
  const running: ChildProcess[] = []

  beforeAll(() => {
    folder = mkdtempSync(path.join(tmpdir(), 'imbarco-network-'))
    disk = path.join(folder, 'laptop.img')
    writeFileSync(disk, pattern(SIZE, 9))
    for (const space of [SHOP, FAR]) ip('netns', 'add', space)
    ip('link', 'add', 'shop', 'netns', SHOP, 'type', 'veth', 'peer', 'name', 'far', 'netns', FAR)
    for (const [space, name, address] of [
      [SHOP, 'shop', '10.99.7.1/24'],
      [FAR, 'far', '10.99.7.2/24'],
    ] as const) {
      ip('-n', space, 'address', 'add', address, 'dev', name)
      for (const device of ['lo', name]) ip('-n', space, 'link', 'set', device, 'up')
    }
    // A cable of 100 Mb/s, so that there is something to pull it out of.
    execFileSync(
      'ip',
      within(FAR, 'tc', ...'qdisc add dev far root tbf rate 100mbit burst 64kb latency 200ms'.split(' ')),
    )
  })

  afterAll(() => {
    for (const child of running) child.kill('SIGKILL')
    for (const space of [SHOP, FAR]) spawnSync('ip', ['netns', 'del', space])
    rmSync(folder, { recursive: true, force: true })
  })

  const lends = async (...options: string[]) => {
    const child = spawn('ip', within(FAR, 'bin/imbarco', 'lend', disk, '--allow', '--json', '--port', '0', ...options))
    running.push(child)
    const [line] = (await once(createInterface({ input: child.stdout! }), 'line')) as [string]
    return JSON.parse(line) as { uri: string; code: string; port: number }
  }

  it('is reached at the address that was said, and at no other', async () => {
    const { uri, code } = await lends('--bind', '10.99.7.2')
    const there = await run('ip', within(SHOP, 'bin/imbarco', 'survey', uri, '--code', code, '--json'))
    expect(JSON.parse(there.stdout)).toMatchObject({ sizeBytes: SIZE })
    const own = await lends()
    const elsewhere = own.uri.replace('127.0.0.1', '10.99.7.2')
    await expect(run('ip', within(SHOP, 'bin/imbarco', 'survey', elsewhere, '--code', own.code))).rejects.toThrow(
      /ECONNREFUSED/,
    )
  })

  it('is read to its end although the cable is out for a while', async () => {
    const { uri, code } = await lends('--bind', '10.99.7.2')
    const out = path.join(folder, 'copied.img')
    const reading = run('ip', within(SHOP, 'bin/imbarco', 'convert', uri, out, '--code', code))
    const moved = () => Number(execFileSync('ip', within(SHOP, 'cat', '/sys/class/net/shop/statistics/rx_bytes')))
    await vi.waitUntil(() => moved() > 12 * MIB, { timeout: 30_000 })
    ip('-n', FAR, 'link', 'set', 'far', 'down')
    const before = moved()
    // How long it is out is what this is about.
    await new Promise((resolve) => setTimeout(resolve, 3000))
    expect(moved() - before).toBeLessThan(MIB)
    ip('-n', FAR, 'link', 'set', 'far', 'up')
    await reading
    expect(readFileSync(out).equals(readFileSync(disk))).toBe(true)
  })
})
