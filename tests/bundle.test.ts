import { execFileSync, spawnSync } from 'node:child_process'
import { existsSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { deep } from '@/core/testing'

const canUnshare = process.getuid?.() === 0 && spawnSync('unshare', ['-n', 'true']).status === 0
const LONG = 900_000

// It builds and packs half a gigabyte, so it is among the long runs.
describe.runIf(deep && canUnshare)('the bundle', () => {
  let folder: string
  const own = () => path.join(folder, 'imbarco')

  beforeAll(() => {
    folder = mkdtempSync(path.join(tmpdir(), 'imbarco-bundle-'))
    const file = path.join(folder, 'bundle.tar.gz')
    execFileSync('npm', ['run', '--silent', 'bundle', '--', file], { stdio: 'pipe' })
    execFileSync('tar', ['-xzf', file, '-C', folder])
    rmSync(file)
  }, LONG)

  afterAll(() => rmSync(folder, { recursive: true, force: true, maxRetries: 20 }))

  /** What a shell says in a fresh folder with no network but its own loopback. */
  const offline = (script: string, env: Record<string, string> = {}) =>
    spawnSync('unshare', ['-n', 'sh', '-c', `ip link set lo up; ${script}`], {
      cwd: own(),
      encoding: 'utf8',
      env: { ...process.env, HOME: folder, NODE_ENV: 'production' as const, ...env },
      timeout: 300_000,
    })

  it('has the program, its pages and its packages, and nothing to develop with', () => {
    for (const name of ['bin/imbarco', '.next/BUILD_ID', 'node_modules/next', 'docs/rescue-stick.md'])
      expect([name, existsSync(path.join(own(), name))]).toEqual([name, true])
    for (const name of ['node_modules/vitest', 'node_modules/typescript', '.next/cache', 'tests', 'data'])
      expect([name, existsSync(path.join(own(), name))]).toEqual([name, false])
  })

  it('runs its command where there is no network', () => {
    const { status, stdout } = offline('bin/imbarco computer --json')
    expect([status, JSON.parse(stdout) as object]).toEqual([0, expect.objectContaining({ cores: expect.any(Number) })])
  })

  it('serves its pages there, without installing or building anything', { timeout: LONG }, () => {
    const look = `
      const end = Date.now() + 120000
      const look = () => fetch('http://127.0.0.1:4477/').then((page) => page.text()).then((text) => {
        console.log(/need you/.test(text) ? 'the board is there' : text.slice(0, 200))
      }).catch((error) => (Date.now() < end ? setTimeout(look, 300) : console.log(String(error))))
      look()`
    const { stdout } = offline(
      `node scripts/demo.mjs --port 4477 > said 2>&1 & demo=$!; node -e "$LOOK"; kill $demo; wait $demo; cat said`,
      { LOOK: look, IMBARCO_DATA: path.join(folder, 'data') },
    )
    expect(stdout).toMatch(/the board is there/)
    expect(stdout).not.toMatch(/Installing|Building/)
  })
})
