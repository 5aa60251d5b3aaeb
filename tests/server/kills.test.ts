import { type ChildProcess, spawn } from 'node:child_process'
import { existsSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { createInterface } from 'node:readline'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { JOB_KINDS } from '@/core/job'
import { findEmulator } from '@/host/emulator'
import { bundleWithThreads } from '../support/bundle-worker'
import { layDemoBench } from '../support/demo-bench'

/** One kind needs an emulator, which not every computer has. */
const emulator = await findEmulator()

const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-kills-'))
/** In an order in which a move comes by them. */
const ORDER = [
  ...['measure', 'survey', 'map-check', 'convert', 'capture', 'compare', 'verify', 'compact', 'erase', 'copy'],
  ...['trial', 'repair', 'undo-repair', 'make-room'],
  ...(emulator ? ['emulate'] : []),
]
/** A killed process is killed so long after its job began, at most. */
const LATEST_MS = 60

interface Found {
  readonly running: number
  readonly last: { state: string; message: string } | null
  readonly copy: { status: string; resumable: number } | null
  readonly partial: readonly string[]
}

let child: ChildProcess | undefined
/** The killed server, and the threads that it starts, as JavaScript beside each other. */
let server: string

/** A server that begins with what the last one left and is killed in the middle of a job of kind `next`. */
async function live(before: string, next: string): Promise<Found> {
  child = spawn(process.execPath, [server, before, next], {
    env: { ...process.env, IMBARCO_DATA: folder, IMBARCO_LOG: 'silent' },
    stdio: ['ignore', 'pipe', 'pipe'],
  })
  const errors: string[] = []
  child.stderr!.on('data', (chunk: Buffer) => errors.push(chunk.toString()))
  const left = new Promise<void>((resolve) => child!.once('exit', () => resolve()))
  let found: Found | undefined
  let ended = false
  for await (const line of createInterface(child.stdout!)) {
    if (line.startsWith('FOUND ')) found = JSON.parse(line.slice(6)) as Found
    if (line.startsWith('ENDED ')) ended = true
    if (line.startsWith('BEGUN ')) setTimeout(() => child!.kill('SIGKILL'), Math.random() * LATEST_MS)
  }
  await left
  expect([found, ended], `${before}, then ${next}: ${errors.join('')}`).toEqual([expect.anything(), true])
  return found!
}

beforeAll(async () => {
  server = bundleWithThreads('tests/support/killed-server.ts')
  await layDemoBench(folder)
}, 120_000)

afterAll(() => {
  child?.kill('SIGKILL')
  rmSync(folder, { recursive: true, force: true })
})

describe('a server that is killed', () => {
  it('is tried in the middle of every kind of job', () => {
    const kinds = JOB_KINDS.filter((kind) => kind !== 'emulate' || emulator !== undefined)
    expect(ORDER.filter((kind) => kind !== 'copy').sort()).toEqual([...kinds].sort())
  })

  it('leaves what the next one knows, ends in one way, and carries out', async () => {
    let before = 'none'
    for (const next of [...ORDER, 'none']) {
      const { running, last, copy, partial } = await live(before, next)
      expect([running, partial], before).toEqual([0, []])
      // One that came to its end before the kill is done, any other was interrupted and says what that leaves.
      if (last) expect(last.state, before).toMatch(/^(interrupted|done)$/)
      if (last?.state === 'interrupted') expect(last.message, before).toMatch(/[.]$/)
      if (before === 'copy') expect(['interrupted', 'done']).toContain(copy?.status)
      before = next
    }
    for (const name of ['made.img', 'kept.vhdx']) expect(existsSync(path.join(folder, 'images', name)), name).toBe(true)
  }, 240_000)
})
