import { spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { createServer } from 'node:net'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { describe, expect, it } from 'vitest'

/** What a command printed before it gave up. */
function run(
  args: string[],
  env: Record<string, string> = {},
): { status: number | null; stderr: string; stdout: string } {
  return spawnSync(process.execPath, args, { encoding: 'utf8', env: { ...process.env, ...env } })
}

const ground = (call: string) =>
  run(['--input-type=module', '-e', `import * as g from './scripts/ground.mjs'; ${call}`])
const oneSentence = /^[A-Z][^\n]+\.\n$/

describe('the commands', () => {
  it('need a Node.js that is new enough', () => {
    const { status, stderr } = ground("g.checkNode('18.19.0')")
    expect(status).toBe(1)
    expect(stderr).toMatch(oneSentence)
    expect(stderr).toMatch(/needs Node\.js 20\.9 or newer, and this is 18\.19\.0/)
    expect(ground("g.checkNode('22.0.0')").status).toBe(0)
  })

  it('need room on the disk', () => {
    const { status, stderr } = ground('g.checkRoom(1e9)')
    expect(status).toBe(1)
    expect(stderr).toMatch(oneSentence)
    expect(stderr).toMatch(/MiB free, and about 1000000000 MiB are needed/)
  })

  it('need a free port, and say how to take another', async () => {
    const taken = createServer()
    const port = await new Promise<number>((resolve) =>
      taken.listen(0, '127.0.0.1', () => resolve((taken.address() as { port: number }).port)),
    )
    const data = mkdtempSync(path.join(tmpdir(), 'imbarco-port-'))
    const demo = () => run(['scripts/demo.mjs', '--port', String(port)], { IMBARCO_DATA: data })
    const other = demo()
    expect(other.status).toBe(1)
    expect(other.stderr).toMatch(/in use by another program/)
    expect(other.stderr).toContain(`npm run demo -- --port ${port + 1}`)
    // The server of this very folder is not to get a second one beside it.
    const address = `http://127.0.0.1:${port}`
    writeFileSync(path.join(data, 'in-use.json'), JSON.stringify({ pid: process.pid, address }))
    const own = demo()
    taken.close()
    rmSync(data, { recursive: true })
    expect(own.status).toBe(1)
    expect(own.stderr).toContain(`at ${address}. Open it there`)
    expect(own.stderr).not.toContain('--port')
  })

  it('serve nobody but this machine', () => {
    const { status, stderr } = run(['scripts/demo.mjs'], { HOST: '0.0.0.0' })
    expect(status).toBe(1)
    expect(stderr).toMatch(/HOST is 0\.0\.0\.0/)
  })

  it('take no port that is none', () => {
    const { status, stderr } = run(['scripts/demo.mjs', '--port', 'harbour'])
    expect(status).toBe(1)
    expect(stderr).toMatch(/"harbour" is not a port number/)
  })
})
