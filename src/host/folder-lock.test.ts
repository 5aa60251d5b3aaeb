import { spawn } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterEach, beforeEach, expect, it } from 'vitest'
import { FolderInUse, lockFolder } from './folder-lock'

let folder: string
beforeEach(() => (folder = mkdtempSync(path.join(tmpdir(), 'imbarco-lock-'))))
afterEach(() => rmSync(folder, { recursive: true, force: true }))

const HOLD = `
  import { lockFolder } from './src/host/folder-lock.ts'
  lockFolder(process.argv[1], 'http://127.0.0.1:4310').then(
    () => (console.log('held'), setInterval(() => {}, 1000)),
    (error) => (console.log(error.name), process.exit(3)),
  )
`

/** Another process that wants the folder, and what it says of it. */
async function another(): Promise<{ said: string; kill(): Promise<void> }> {
  const child = spawn(process.execPath, ['--import', 'tsx', '--input-type=module', '-e', HOLD, folder], {
    stdio: ['ignore', 'pipe', 'inherit'],
  })
  const said = await new Promise<string>((resolve) => child.stdout.once('data', (data) => resolve(String(data).trim())))
  return {
    said,
    kill: () =>
      new Promise((resolve) => {
        if (child.exitCode !== null) return resolve()
        child.once('exit', () => resolve())
        child.kill('SIGKILL')
      }),
  }
}

it('is held by one process, named to whoever comes second, and free again once that was killed', async () => {
  const first = await another()
  expect(first.said).toBe('held')
  const refusal = await lockFolder(folder).catch((error: unknown) => error)
  expect(refusal).toBeInstanceOf(FolderInUse)
  expect((refusal as FolderInUse).holder?.address).toBe('http://127.0.0.1:4310')
  const second = await another()
  expect(second.said).toBe('FolderInUse')
  await second.kill()
  await first.kill()
  const lock = await lockFolder(folder)
  await lock.release()
  await (await lockFolder(folder)).release()
})
