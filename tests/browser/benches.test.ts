import { execFileSync } from 'node:child_process'
import { closeSync, mkdtempSync, openSync, readFileSync, rmSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { By } from 'selenium-webdriver'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { gdiskPartitions, gdiskProblems } from '../support/independent'
import { expectAccessible } from './support/axe'
import { Key, Page } from './support/browser'
import { serve, type Served } from './support/serve'
import { closeCase, setPace, tickAllSteps, typePlate } from './support/steps'

let served: Served
let page: Page
let folder: string
const targetImage = () => path.join(served.data, 'images', 'new drive.img')

beforeAll(async () => {
  served = await serve()
  page = await Page.launch(served.url)
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-benches-'))
  // A blank drive of 256 GB as an image file.
  closeSync(openSync(targetImage(), 'w'))
  truncateSync(targetImage(), 256_060_514_304)
})

afterAll(async () => {
  await page.close()
  await served.close()
  rmSync(folder, { recursive: true, force: true })
})

describe('a computer that is described from nothing, with two image files as drives', () => {
  it('is put on a bench of its own in the pages alone', async () => {
    await page.open('/bench')
    await (await page.find('bench-menu')).click()
    await page.click(/Make another bench/)
    await page.fill('Its name', 'Second table')
    await page.send()
    await page.untilText(/This bench is empty/)

    await page.click(/^Describe a computer/)
    await page.fill('What it is called', 'kiosk')
    await expectAccessible(page, 'describing a computer')
    await page.send()
    await page.untilText(/kiosk/i)

    await page.click(/^Add a drive/)
    await page.pick('Image', 'survey office')
    await page.send()
    await page.click(/^Add a drive/)
    await page.pick('Image', 'new drive')
    await page.send()
    await page.untilFinding(/^2 drives, 0 of them connected/)

    await page.click(/^Add something else/)
    await page.pick('Begin with', 'USB dock')
    await page.send()
    await page.click(/^Add something else/)
    await page.pick('Begin with', 'Rescue stick')
    await page.send()
    await page.untilText(/Secure Boot accepts it/)

    await page.put(/Pick up the survey office 3 May 128 GB/, /Put it here.*SATA 0/s)
    await page.put(/Pick up the new drive 256 GB/, /Put it here.*bay 1/s)
    await page.untilFinding(/^2 drives, 2 of them connected/)
    await expectAccessible(page, 'a bench of its own')
  })

  it('gets a move, filled in from what its drives tell', async () => {
    await page.open('/')
    await page.untilFinding(/Nothing is moved here yet/)
    await page.click(/^New move/)
    await page.untilFinding(/What is to be moved/)
    await page.pick('Computer', 'kiosk')
    await page.untilText(/Windows 10 Pro/)
    await page.fill('Customer', 'Harbour kiosk')
    await expectAccessible(page, 'a new move')
    await page.next(/Open the move/)
    await page.untilFinding(/More room for the kiosk/)
    expect(await page.path()).toBe('/moves/kiosk/intake')
    await page.untilText(/survey office 3 May 128 GB/)
  })

  it('is moved from image to image, and starts', async () => {
    await page.next(/Read the drives/)
    await page.untilText(/Findings/)
    await page.next(/Continue to Route/)
    await page.untilFinding(/routes? (works?|can)/)
    await page.next(/Use this route/)
    await page.untilFinding(/It fits/)
    await page.next(/Lock this fit/)
    await page.untilFinding(/before it can start/)
    await page.click(/^It is in/)
    await page.untilText(/Mains power the cable is in/)
    await page.click(/^Continue without/)
    await page.untilText(/No backup, and the customer knows/)
    await page.click(/Start it from the stick/)
    await page.untilFinding(/^It can start/)
    await setPace(page, /as fast as it goes/)
    const serial = /s\/n (IMG-)/.exec(await page.text())
    expect(serial).not.toBeNull()
    await typePlate(page, '0002')
    await page.next(/Erase and copy/)
    await page.untilFinding(/reads back equal/, 240_000)
    expect(gdiskProblems(targetImage())).toBe('')
    expect([...gdiskPartitions(targetImage()).keys()]).toEqual([1, 2, 3, 4])
    await page.next(/Continue to Swap/)
    await tickAllSteps(page)
    await page.untilFinding(/The new drive 256 GB is in the kiosk/)
    await page.next(/Continue to Proof/)
    await page.next(/Start the kiosk/)
    await page.untilFinding(/It starts from the new drive 256 GB, and everything is there/)
  })
})

describe('a computer with two drives', () => {
  const image = (name: string) => path.join(served.data, 'images', name)

  it('is described with both, from image files, and two blank ones', async () => {
    for (const [drive, name] of [
      ['crv3-240', 'desk system.img'],
      ['crh5-1000', 'desk archive.img'],
    ]) {
      execFileSync('cp', ['--sparse=always', path.join(served.data, 'drives', `${drive}.img`), image(name)])
    }
    await page.open('/bench')
    await (await page.find('bench-menu')).click()
    await page.click(/Make another bench/)
    await page.fill('Its name', 'Third table')
    await page.send()
    await page.untilText(/This bench is empty/)
    await page.click(/^Describe a computer/)
    await page.fill('What it is called', 'desk')
    await page.send()
    for (const name of ['desk system', 'desk archive']) {
      await page.click(/^Add a drive/)
      await page.pick('Image', name)
      await page.send()
    }
    for (const [serial, capacity] of [
      ['CRV5-7001-AAAA', '500 GB'],
      ['CRV5-7002-BBBB', '2 TB'],
    ]) {
      await page.click(/^Add a drive/)
      await page.pick('What stands for it', 'a blank drive')
      await page.fill('Serial, as printed', serial)
      await page.fill('Capacity', capacity)
      await page.send()
    }
    for (const thing of ['USB dock', 'Rescue stick']) {
      await page.click(/^Add something else/)
      await page.pick('Begin with', thing)
      await page.send()
    }
    await page.put(/Pick up the desk system 240 GB/, /Put it here.*SATA 0/s)
    await page.put(/Pick up the desk archive 1 TB/, /Put it here.*SATA 1/s)
    await page.put(/Pick up the Corvina S5 500 GB/, /Put it here.*bay 1/s)
    await page.put(/Pick up the Corvina S5 2 TB/, /Put it here.*bay 2/s)
    await page.untilFinding(/^4 drives, 4 of them connected/)
  })

  it('moves both in one move, a leg for each', async () => {
    await page.open('/moves/new')
    await page.pick('Computer', 'desk')
    await page.untilText(/desk system 240 GB/)
    await page.click(/^Add a further drive/)
    const choice = (pair: number, field: string) =>
      page.driver.findElement(By.css(`select[name="pairs.${pair}.${field}"]`))
    const take = async (pair: number, field: string, words: string) => {
      await (
        await choice(pair, field)
      )
        .findElement(By.xpath(`./option[starts-with(normalize-space(), '${words}')]`))
        .click()
    }
    await take(0, 'sourceId', 'desk system')
    await take(0, 'targetId', 'Corvina S5 500 GB')
    await take(1, 'sourceId', 'desk archive')
    await take(1, 'targetId', 'Corvina S5 2 TB')
    await page.fill('Customer', 'Chart room')
    await page.next(/Open the move/)
    await page.untilFinding(/More room for the desk/)
    await page.next(/Read the drives/)
    await page.untilText(/Findings/)
    await page.click(/^desk archive 1 TB/)
    await page.untilText(/Archive/)
    await page.next(/Continue to Route/)
    await page.untilFinding(/routes? (works?|can)/)
    await page.next(/Use this route/)
    await page.untilFinding(/It fits/)
    await page.next(/Lock this fit/)
    await page.until(async () => /desk archive.*to be locked/s.test(await selectedTab()), 'the second drive')
    await page.next(/Lock this fit/)
    await page.untilText(/Leg 1 of 2, desk system 240 GB to Corvina S5 500 GB/)
    await page.click(/^It is in/)
    await page.untilText(/Mains power the cable is in/)
    await page.click(/^Continue without/)
    await page.untilText(/No backup, and the customer knows/)
    await page.click(/Start it from the stick/)
    await page.untilFinding(/^It can start/)
    await typePlate(page, 'AAAA')
    await page.next(/Erase and copy/)
    await page.untilFinding(/reads back equal/, 240_000)
    await page.next(/Continue to the next leg/)
    await page.untilText(/Leg 2 of 2, desk archive 1 TB to Corvina S5 2 TB/)
    await page.untilFinding(/^It can start/)
    await typePlate(page, 'BBBB')
    await page.next(/Erase and copy/)
    await page.untilFinding(/reads back equal/, 240_000)
    await page.next(/Continue to Swap/)
    await tickAllSteps(page)
    await page.untilFinding(/The Corvina S5 500 GB is in the desk/)
    await page.next(/Continue to Proof/)
    await page.next(/Start the desk/)
    await page.untilFinding(/It starts from the Corvina S5 500 GB, and everything is there/)
    expect(await (await page.find('proof-checks')).getText()).toMatch(/Corvina S5 2 TB: /)
    await closeCase(page)
    expect(await (await page.find('sheet')).getText()).toMatch(/Leg 2\s+desk archive 1 TB to Corvina S5 2 TB/)
  })

  const selectedTab = async () =>
    (await page.driver.findElement(By.css('[role="radio"][aria-checked="true"]'))).getText()
})

describe('a bench', () => {
  it('is saved as a file and taken from it again, without the bytes', async () => {
    await page.open('/bench')
    const schema = (await (await fetch(`${served.url}/api/benches/schema`)).json()) as { required: string[] }
    expect(schema.required).toContain('computers')
    const saved = await fetch(`${served.url}/api/benches/molo-sette/export`)
    expect(saved.headers.get('content-disposition')).toMatch(/Molo Sette\.bench\.json/)
    const file = path.join(folder, 'bench.json')
    writeFileSync(file, await saved.text())
    await (await page.find('bench-file')).sendKeys(file)
    await page.untilText(/Molo Sette \(2\)/)
    await page.untilFinding(/One drive is failing/)
    await page.untilText(/only described/)
  })

  it('that is malformed is refused with the place, and nothing is taken', async () => {
    const file = path.join(folder, 'bench.json')
    const broken = path.join(folder, 'broken.json')
    writeFileSync(broken, readFileSync(file, 'utf8').replace('"link": "sata-6"', '"link": "sata-99"'))
    await (await page.find('bench-file')).sendKeys(broken)
    await page.untilText(/Line \d+, column \d+ \(computers\[0\]\.slots\[0\]\.speaks\[0\]\.link\)/)
    await (await page.find('bench-menu')).click()
    await page.untilText(/Second table/)
    expect(await page.text()).not.toMatch(/Molo Sette \(3\)/)
    await page.press(Key.ESCAPE)
  })

  it('is taken away only when its name was typed', async () => {
    await (await page.find('bench-menu')).click()
    await page.click(/Take this bench away/)
    await page.fill('Type its name', 'Molo')
    await (await page.find('dialog-action')).click()
    await page.untilText(/That is not the name of this bench/)
    await page.fill('Type its name', 'Molo Sette (2)')
    await page.send()
    await page.until(
      async () => !/\(2\)/.test(await (await page.find('bench-menu')).getText()),
      'another bench to be shown',
    )
    await (await page.find('bench-menu')).click()
    const menu = await page.driver.findElement(By.css('[role="menu"]')).getText()
    expect(menu).toMatch(/Second table/)
    expect(menu).not.toMatch(/Molo Sette \(2\)/)
    await page.press(Key.ESCAPE)
  })
})
