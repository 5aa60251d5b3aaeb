import { spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'

/** Makes the demo bench once; every server of the browser tests gets a copy of it. */
export default function setup(): () => void {
  const data = mkdtempSync(path.join(tmpdir(), 'imbarco-bench-'))
  const env = { ...process.env, IMBARCO_DATA: data }
  const made = spawnSync('node_modules/.bin/tsx', ['scripts/make-bench.ts'], { env, encoding: 'utf8' })
  if (made.status !== 0) throw new Error(`The bench was not made: ${made.stderr}`)
  process.env.IMBARCO_TEST_BENCH = data
  return () => rmSync(data, { recursive: true, force: true })
}
