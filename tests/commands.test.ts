import { spawnSync } from 'node:child_process'
import { createServer } from 'node:net'
import { describe, expect, it } from 'vitest'

/** What a command printed before it gave up. */
function run(args: string[]): { status: number | null; stderr: string; stdout: string } {
  return spawnSync(process.execPath, args, { encoding: 'utf8' })
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
    const { status, stderr } = run(['scripts/demo.mjs', '--port', String(port)])
    taken.close()
    expect(status).toBe(1)
    expect(stderr).toBe(
      `Port ${port} is in use; Imbarco may be running already. Stop what uses it, or choose another: npm run demo -- --port ${port + 1}\n`,
    )
  })

  it('take no port that is none', () => {
    const { status, stderr } = run(['scripts/demo.mjs', '--port', 'harbour'])
    expect(status).toBe(1)
    expect(stderr).toMatch(/"harbour" is not a port number/)
  })
})
