import { spawnSync } from 'node:child_process'
import { existsSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { setTimeout } from 'node:timers/promises'

// The demo's bench takes seconds to make. In a run of tests whoever needs it first makes it, and each has a copy.

/** Gives a run of tests a folder for the bench, which is made there when one asks for it. */
export default function setup(): () => void {
  const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-bench-'))
  process.env.IMBARCO_TEST_BENCH = folder
  return () => rmSync(folder, { recursive: true, force: true })
}

/** Puts the demo's bench into a folder: a copy of the one that was made for all tests, or a new one. */
export async function layDemoBench(data: string): Promise<void> {
  const folder = process.env.IMBARCO_TEST_BENCH
  if (!folder) return makeInto(data)
  const [bench, made] = [path.join(folder, 'bench'), path.join(folder, 'made')]
  if (isFirst(bench)) {
    makeInto(bench)
    writeFileSync(made, '')
  }
  while (!existsSync(made)) await setTimeout(50)
  execute('cp', ['-a', '--sparse=auto', `${bench}/.`, data])
}

function isFirst(folder: string): boolean {
  try {
    mkdirSync(folder)
    return true
  } catch {
    return false
  }
}

const makeInto = (data: string, ...options: string[]) =>
  execute('node_modules/.bin/tsx', ['scripts/make-bench.ts', ...options], { IMBARCO_DATA: data })

/** Makes the demo's other bench in a folder. */
export const layHoneyHouse = (data: string) => makeInto(data, '--honey-house')

/** Runs a program to its end. Throws with what it said where that is no success. */
export function execute(program: string, args: readonly string[], env: Record<string, string> = {}): void {
  const { status, stderr } = spawnSync(program, args, { env: { ...process.env, ...env }, encoding: 'utf8' })
  if (status !== 0) throw new Error(`${program} did not do what the test needs: ${stderr}`)
}
