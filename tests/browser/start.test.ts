import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { spawnSync } from 'node:child_process'
import { afterEach, beforeEach, describe, expect, it } from 'vitest'
import { Page } from './support/browser'
import { serve, type Served, startInVain } from './support/serve'
import { layDemoBench } from '../support/demo-bench'

let folder: string
const data = () => path.join(folder, 'data')

beforeEach(() => void (folder = mkdtempSync(path.join(tmpdir(), 'imbarco-start-'))))
afterEach(() => rmSync(folder, { recursive: true, force: true }))

describe('a server that cannot work ends at its start with one sentence', () => {
  it('where the data folder is a file', async () => {
    writeFileSync(data(), 'a note')
    const { code, said } = await startInVain(data())
    expect(code).toBe(1)
    expect(said).toMatch(/is a file, and the data folder is to be a folder/)
    expect(readFileSync(data(), 'utf8')).toBe('a note')
  })

  it('where the database is damaged, and leaves it as it is', async () => {
    mkdirSync(data())
    await layDemoBench(data())
    const file = path.join(data(), 'imbarco.sqlite')
    const bytes = readFileSync(file)
    for (const damaged of [Buffer.from('not a database at all, however long it may be'), garbled(bytes)]) {
      rmSync(`${file}-wal`, { force: true })
      writeFileSync(file, damaged)
      const { code, said } = await startInVain(data())
      expect(code).toBe(1)
      expect(said).toMatch(/The database .* is damaged and was left as it is/)
    }
  })

  it('where the database is gone and the drives are there, over which no demo is made', async () => {
    mkdirSync(data())
    await layDemoBench(data())
    for (const suffix of ['', '-wal', '-shm']) rmSync(path.join(data(), `imbarco.sqlite${suffix}`), { force: true })
    const drive = path.join(data(), 'drives', 'crv3-240.img')
    writeFileSync(drive, 'the only copy')
    const { code, said } = await startInVain(data())
    expect(code).toBe(1)
    expect(said).toMatch(/files of drives in .*, and the database beside them knows no bench/)
    const made = spawnSync('node_modules/.bin/tsx', ['scripts/make-bench.ts'], {
      env: { ...process.env, IMBARCO_DATA: data() },
      encoding: 'utf8',
    })
    expect([made.status, made.stderr]).toEqual([1, expect.stringMatching(/nothing was made over them/)])
    expect(readFileSync(drive, 'utf8')).toBe('the only copy')
  })

  it('where others in the network could reach it without a passphrase', async () => {
    mkdirSync(data())
    const { code, said } = await startInVain(data(), { IMBARCO_LISTENS_ON: '0.0.0.0' })
    expect(code).toBe(1)
    expect(said).toMatch(/Set a passphrase first/)
  })
})

describe('a server that was killed in the middle of a job', () => {
  it('says so when it is there again, and has left no part of a file', async () => {
    let served = await serve()
    try {
      const order = { kind: 'capture', driveId: 'crv3-240', output: 'cut.qcow2', to: 'qcow2-packed', usedOnly: false }
      const answer = await fetch(`${served.url}/api/images/jobs`, { method: 'POST', body: JSON.stringify(order) })
      const { value } = (await answer.json()) as { value: { id: string } }
      const images = path.join(served.data, 'images')
      // It has begun to write.
      await expect
        .poll(() => readdirSync(images).some((name) => name.endsWith('.partial')), { timeout: 20_000 })
        .toBe(true)
      await served.kill()
      served = await serve({ data: served.data })
      const job = await (await fetch(`${served.url}/api/jobs/${value.id}`)).json()
      expect(job.value).toMatchObject({ state: 'interrupted', message: expect.stringMatching(/server stopped/) })
      expect(readdirSync(images).filter((name) => /cut|partial/.test(name))).toEqual([])
      expect(await (await fetch(`${served.url}/images`)).text()).toMatch(/The server stopped in the middle of this/)
    } finally {
      await served.close()
    }
  })
})

/** The same file with a page in its middle overwritten. */
function garbled(bytes: Buffer): Buffer {
  const copy = Buffer.from(bytes)
  copy.fill(0xa5, 4096 * 3, 4096 * 5)
  return copy
}

describe('a bench with a passphrase', () => {
  const PASSPHRASE = 'a lantern on the quay'

  function setPassphrase(served: Served): void {
    const set = spawnSync('node_modules/.bin/tsx', ['scripts/set-passphrase.ts'], {
      env: { ...process.env, IMBARCO_DATA: served.data },
      input: `${PASSPHRASE}\n`,
      encoding: 'utf8',
    })
    expect([set.status, set.stderr]).toEqual([0, ''])
  }

  it('is locked for who has not typed it, pages, files and changes', async () => {
    const served = await serve()
    const page = await Page.launch(served.url)
    try {
      setPassphrase(served)
      for (const address of [
        '/api/benches/schema',
        '/api/events',
        '/api/look/files?kind=drives&id=crv3-240&partition=4&path=/',
      ])
        expect((await fetch(served.url + address)).status, address).toBe(401)
      const change = { method: 'POST', body: '{"place":{"kind":"table"}}' }
      expect((await fetch(`${served.url}/api/bench/drives/crv5-960/place`, change)).status).toBe(401)
      const upload = { method: 'POST', headers: { 'tus-resumable': '1.0.0', 'upload-length': '512' } }
      expect((await fetch(`${served.url}/api/images/upload`, upload)).status).toBe(401)
      expect((await fetch(`${served.url}/moves/ticket-desk/intake`, { redirect: 'manual' })).status).toBe(307)
      await page.driver.get(`${served.url}/moves/ticket-desk/intake`)
      await page.untilFinding(/This bench is locked/)
      const type = async (text: string) => {
        await page.driver.findElement({ css: '#passphrase' }).sendKeys(text)
        await page.click(/Open the bench/)
      }
      await type('a lantern in the quay')
      await page.untilText(/That is not the passphrase/)
      await type(PASSPHRASE)
      await page.untilFinding(/Eight moves need you/)
      const cookie = await page.driver.manage().getCookie('imbarco-session')
      expect(cookie).toMatchObject({ httpOnly: true, sameSite: 'Strict' })
      const headers = { cookie: `imbarco-session=${cookie.value}` }
      expect((await fetch(`${served.url}/api/benches/schema`, { headers })).status).toBe(200)
      expect(
        (await fetch(`${served.url}/api/benches/schema`, { headers: { cookie: `imbarco-session=${cookie.value}x` } }))
          .status,
      ).toBe(401)
    } finally {
      await page.close()
      await served.close()
    }
  })
})

describe('every page', () => {
  it('is framed by no other site and runs no script of another', async () => {
    const served = await serve()
    try {
      for (const address of ['/', '/bench', '/images', '/moves/ticket-desk/intake', '/api/benches/schema']) {
        const policy = (await fetch(served.url + address)).headers.get('content-security-policy') ?? ''
        expect(policy, address).toMatch(/frame-ancestors 'none'/)
        expect(policy, address).toMatch(/script-src 'nonce-[\w+/=]+' 'strict-dynamic';/)
      }
    } finally {
      await served.close()
    }
  })
})
