import { execFileSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { linkTo } from '@/nbd/testing'
import { layDemoBench, layHoneyHouse } from '../support/demo-bench'
import { cutPartition, extractDigests, gdiskPartitions, gdiskProblems, listFiles } from '../support/independent'
import { expectAccessible } from './support/axe'
import { Page } from './support/browser'
import { freePort, serve, type Served } from './support/serve'
import { setPace, tickAllSteps, typePlate } from './support/steps'

// Two benches in processes of their own, with a link between them that can be cut.

const LONG = 300_000
let shop: Served
let far: Served
let farData: string
let page: Page
let farPage: Page
let link: Awaited<ReturnType<typeof linkTo>>
let lendsAt: number

beforeAll(async () => {
  const data = mkdtempSync(path.join(tmpdir(), 'imbarco-'))
  await layDemoBench(data)
  farData = path.join(data, 'miele-e-cera')
  layHoneyHouse(farData)
  lendsAt = await freePort()
  link = await linkTo(lendsAt)
  // The shop knows where it is lent; here that is over the link.
  const change = `UPDATE drives SET data = replace(data, '127.0.0.1:10809', '127.0.0.1:${link.port}')`
  execFileSync('python3', [
    '-c',
    'import sqlite3,sys; c=sqlite3.connect(sys.argv[1]); c.execute(sys.argv[2]); c.commit()',
    path.join(data, 'imbarco.sqlite'),
    change,
  ])
  shop = await serve({ data })
  page = await Page.launch(shop.url)
  far = await serve({ data: farData })
  await lend()
  farPage = await Page.launch(far.url)
}, LONG)

afterAll(async () => {
  expect(await page.complaints()).toEqual([])
  await page.close()
  await farPage.close()
  await link.close()
  await far.kill()
  await shop.close()
  rmSync(shop.data, { recursive: true, force: true })
})

/** The honey house lends its drive, by the code that the shop was given. */
async function lend(): Promise<void> {
  const lending = JSON.parse(readFileSync(path.join(farData, 'lends.json'), 'utf8')) as object
  const response = await fetch(`${far.url}/api/lent`, {
    method: 'POST',
    body: JSON.stringify({ ...lending, port: lendsAt }),
  })
  expect(await response.json()).toMatchObject({ ok: true })
}

/** Whoever sits there says yes. */
async function sayYes(): Promise<void> {
  await farPage.open('/lent')
  await farPage.untilFinding(/1 computer asks you/)
  await farPage.click(/Say yes/)
  await farPage.untilText(/has it; /)
}

describe('the honey-house laptop', () => {
  it('has its drive lent by its own bench, for a yes', { timeout: LONG }, async () => {
    await page.open('/lent')
    await page.untilFinding(/1 drive can be asked for/)
    await expectAccessible(page, 'a drive that can be asked for')
    await page.open('/bench')
    await page.untilText(/Miele e Cera/)
    await expectAccessible(page, 'the bench with another one')
    await page.open('/drives/oss1-256')
    await page.untilText(/was not asked for it/)
    await page.open('/moves/honey-house/intake')
    await page.next(/Ask Miele e Cera/)
    await page.untilText(/waits for a yes/)
    await sayYes()
    await page.next(/Read the drives/)
    await page.untilFinding(/is used/)
  })

  it('is read over the network, and its new drive written here', { timeout: LONG }, async () => {
    await page.next(/Continue to Route/)
    await page.untilFinding(/routes? (works?|can)/)
    await page.untilText(/Over the network from Miele e Cera, new drive in the USB dock A/)
    await expectAccessible(page, 'routes over the network')
    await page.next(/Use this route/)
    await page.untilFinding(/It fits/)
    await page.next(/Lock this fit/)
    await page.untilText(/Miele e Cera lends the Ostrica S1 256 GB/)
    await page.click(/Show the steps/)
    await tickAllSteps(page)
    await page.untilFinding(/The drives are in their places/)
    await page.next(/Continue to Ready/)
    await page.click(/Continue without/)
    await page.untilFinding(/^It can start/)
    await setPace(page, /as fast/i)
    await typePlate(page, '6HB3')
    await page.next(/Erase and copy/)
    await page.untilFinding(/GiB copied$/)
  })

  it('is copied although the link is cut ten times and its bench killed', { timeout: LONG }, async () => {
    for (let cuts = 0; cuts < 10; cuts++) {
      await link.untilMoved(100_000)
      link.cut()
    }
    await far.kill()
    await page.untilText(/no connection to the bench that lends the Ostrica S1 256 GB/, 60_000)
    await expectAccessible(page, 'a copy that waits')
    far = await serve({ data: farData, port: Number(new URL(far.url).port) })
    await lend()
    await sayYes()
    await page.untilFinding(/copied, and all of it reads back equal/, 200_000)
    await page.untilText(/is connected again/)
  })

  it('starts from the new drive, which is put in there by hand', { timeout: LONG }, async () => {
    await page.next(/Continue to Swap/)
    await tickAllSteps(page)
    await page.next(/Continue to Proof/)
    await page.next(/Start the honey-house laptop/)
    await page.untilFinding(/It starts from the Tellina T1 1 TB, and everything is there/)
    await expectAccessible(page, 'proof')
    await page.next(/Continue to Handover/)
    await page.next(/Hand it over/)
    await page.untilFinding(/Handed over on/)
  })

  it('holds on its new drive what the old one holds, for programs that are not Imbarco', { timeout: LONG }, () => {
    const [source, target] = [
      path.join(farData, 'drives', 'oss1-256.img'),
      path.join(shop.data, 'drives', 'tln1-1000.img'),
    ]
    expect(gdiskProblems(target)).toBe('')
    const [before, after] = [gdiskPartitions(source), gdiskPartitions(target)]
    expect([...after.keys()]).toEqual([...before.keys()])
    const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-honey-'))
    for (const [number, part] of [
      [1, 'EFI'],
      [3, 'Windows'],
    ] as const) {
      const old = cutPartition(source, before.get(number)!, path.join(folder, `old${number}.img`))
      const now = cutPartition(target, after.get(number)!, path.join(folder, `now${number}.img`))
      expect([...listFiles(now)].sort()).toEqual([...listFiles(old)].sort())
      const digests = [...extractDigests(old, part, path.join(folder, `old${number}`))].sort()
      expect(digests.length).toBeGreaterThan(0)
      expect([...extractDigests(now, part, path.join(folder, `now${number}`))].sort()).toEqual(digests)
    }
    rmSync(folder, { recursive: true, force: true })
  })
})
