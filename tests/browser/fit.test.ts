import { mkdtempSync, openSync, rmSync, writeFileSync, writeSync, closeSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { Origin, type WebElement } from 'selenium-webdriver'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import { By, Key, Page } from './support/browser'
import { serve, type Served } from './support/serve'

let served: Served
let page: Page
let folder: string

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-fit-page-'))
  served = await serve({
    moves: {
      ...{ 'ticket-desk': 'routed', 'lighting-desk': 'routed' },
      ...{ 'field-laptop': 'routed', 'logbook-server': 'routed' },
    },
  })
  page = await Page.launch(served.url)
  await page.open('/moves/ticket-desk/fit')
  await page.untilFinding(/It fits/)
})

afterAll(async () => {
  expect(await page.complaints()).toEqual([])
  await page.close()
  await served.close()
  rmSync(folder, { recursive: true, force: true })
})

async function shown(css: string): Promise<WebElement> {
  let found: WebElement | undefined
  await page.until(async () => {
    for (const element of await page.driver.findElements(By.css(css))) {
      if (await element.isDisplayed()) found = element
    }
    return found !== undefined
  }, css)
  return found!
}

const handle = () => shown('[aria-label="End of Harbour (C:)"]')
const sizeNow = async () => (await handle()).getAttribute('aria-valuetext')
const untilSize = (size: RegExp) => page.until(async () => size.test((await sizeNow()) ?? ''), String(size))
const table = async () => (await page.find('fit-table')).getText()

async function openFit(id: string): Promise<void> {
  await page.open(`/moves/${id}/fit`)
  await page.untilText(/Size rule/)
}

describe('a fit', () => {
  it('is dragged by its handle, step by step back and forth', async () => {
    await untilSize(/^893\.5 GiB/)
    const move = (y: number) => ({ origin: Origin.POINTER, x: 0, y, duration: 40 })
    const grip = page.driver.actions({ async: true }).move({ origin: await handle() })
    await grip.press().move(move(-30)).move(move(-30)).move(move(-30)).release().perform()
    await untilSize(/^[56]\d\d\.\d GiB/)
    const dragged = await sizeNow()
    await page.untilText(/GiB stays unallocated/)
    expect(await table()).toMatch(/Harbour \(C:\).* set/)
    await page.shortcut(Key.CONTROL, 'z')
    await untilSize(/^893\.5 GiB/)
    await (await shown('[aria-label="Redo"]')).click()
    await untilSize(new RegExp(`^${dragged!.replace('.', '\\.')}`))
  })

  it('follows the arrow keys, a mebibyte at a time and with Shift a gibibyte, between its ends', async () => {
    await page.click(/Grow the system/)
    await untilSize(/^893\.5 GiB/)
    const grip = await handle()
    const mib = async () => Number(await (await handle()).getAttribute('aria-valuenow'))
    const most = await mib()
    await page.driver.executeScript('arguments[0].focus()', grip)
    await page.press(Key.ARROW_UP)
    await page.until(async () => (await mib()) === most - 1, 'one mebibyte less')
    await page.driver.actions().keyDown(Key.SHIFT).sendKeys(Key.ARROW_UP).keyUp(Key.SHIFT).perform()
    await page.until(async () => (await mib()) === most - 1025, 'a gibibyte less')
    await page.press(Key.HOME)
    await untilSize(/^203\.\d GiB/)
    await page.untilText(/Harbour \(C:\) shrinks from 222\.8 GiB to 203/)
    await page.press(Key.END)
    await page.until(async () => (await mib()) === most, 'all that is left')
  })

  it('begins with any of its starting points', async () => {
    await page.click(/^Smallest/)
    await page.untilText(/Harbour \(C:\) shrinks/)
    expect(await table()).toMatch(/Harbour \(C:\).* least/)
    await page.click(/^Same sizes/)
    await page.untilText(/670\.\d GiB stays unallocated/)
    await page.click(/^Everything in proportion/)
    await page.until(async () => /Harbour \(C:\).* share/.test(await table()), 'a share')
  })

  it('gives a volume another label on the target, and says which it cannot have', async () => {
    await page.click(/^Harbour/, 'th button')
    const label = () => shown('[data-testid="label"]')
    const type = async (text: string) => (await label()).sendKeys(Key.chord(Key.CONTROL, 'a'), text)
    await type('Harbour, new')
    await page.click(/Table, places and identity/, 'summary')
    await page.untilText(/Harbour \(C:\) is called “Harbour, new” on the target/)
    await page.click(/^EFI system/, 'th button')
    await type('a name that is far too long')
    await page.untilText(/cannot be called a name that is far too long/)
    await page.untilFinding(/does not fit|cannot/)
    await type('ESP')
    await page.click(/Table, places and identity/, 'summary')
    await page.untilFinding(/It fits/)
  })

  it('changes order, leaves a partition out, and lists what becomes another', async () => {
    await page.click(/Grow the system/)
    await page.click(/^Recovery$/, 'th button')
    await page.click(/^Earlier$/)
    await page.until(async () => /Recovery[\s\S]*Harbour/.test(await table()), 'recovery in front')
    await page.click(/^Leave it out$/)
    await page.until(async () => /Recovery.*left out/.test(await table()), 'left out')
    await page.click(/Table, places and identity/, 'summary')
    await page.untilText(/Recovery \(partition 4\) is left out\. The system starts without it/)
    await page.choose(/Identity of the target/, /new one for the drive/)
    await page.untilText(/so that it can stay beside the old one/)
    await page.choose(/Partition table/, /^MBR/)
    await page.untilText(/The table becomes an MBR/)
    await page.choose(/Partition table/, /GPT, as it is/)
    await page.choose(/Identity of the target/, /the same/)
    await page.click(/^Take it along$/)
    await page.click(/Grow the system/)
    await expectAccessible(page, 'fit')
  })

  it('that is typed wrongly says why, and offers the nearest that works', async () => {
    await page.click(/^Harbour \(C:\)$/, 'th button')
    const size = async (text: string) => {
      await (await shown('[data-testid="size"]')).sendKeys(Key.chord(Key.CONTROL, 'a'), text)
    }
    for (const bad of ['much', '-5 GiB', '12 furlongs']) {
      await size(bad)
      await page.untilText(/That is not a size/)
    }
    await size('40 GiB')
    await page.untilFinding(/It misses by 163\.\d GiB/)
    await page.untilText(/It cannot be less than 203/)
    await (await page.find('take-nearest')).click()
    await page.untilText(/Harbour \(C:\) shrinks from 222\.8 GiB to 203/)
    await size('3 TB')
    await page.untilFinding(/It misses by/)
    expect(await (await page.find('next-action')).isEnabled()).toBe(false)
    await page.click(/Go back one step/)
    await page.untilFinding(/It fits/)
  })

  it('is tried on another drive of the bench without taking it', async () => {
    await page.choose(/^Target/, /Corvina H2 250 GB/)
    await page.untilText(/is only tried here/)
    await page.untilText(/On the target now, and erased/)
    await page.choose(/^Target/, /as planned/)
    await page.until(async () => !/is only tried here/.test(await page.text()), 'its own target')
  })

  it('is taken from a file, and a malformed one is refused with the place', async () => {
    const file = (name: string, content: string) => {
      writeFileSync(path.join(folder, name), content)
      return path.join(folder, name)
    }
    const wish = { rules: { 1: 'keep', 2: 'keep', 3: 'set', 4: 'keep' }, sizes: { 3: 400 * 2 ** 30 }, reserve: 0 }
    const whole = { format: 'imbarco fit', version: 1, source: { name: 'x', sizeBytes: 1, partitions: [] }, wish }
    const input = await page.driver.findElement(By.css('input[type="file"]'))
    await input.sendKeys(file('good.json', JSON.stringify(whole, null, 2)))
    await untilSize(/^400\.0 GiB/)
    const stray = { ...whole, wish: { ...wish, rules: { ...wish.rules, 9: 'fill' } } }
    await input.sendKeys(file('stray.json', JSON.stringify(stray, null, 2)))
    await page.untilText(/Line \d+, column \d+ \(wish\.rules\.9\): this drive has no partition 9/)
    await input.sendKeys(file('bad.json', '{ "format": '))
    await page.untilText(/Line 1, column \d+: a value is missing\. Nothing was taken from the file/)
    await untilSize(/^400\.0 GiB/)
    const schema = (await (await fetch(`${served.url}/api/fits/schema`)).json()) as { properties: object }
    expect(Object.keys(schema.properties)).toContain('wish')
  })

  it('is locked, let go, and compared with', async () => {
    await page.next(/Lock this fit/)
    await page.untilFinding(/can start/)
    await page.open('/moves/ticket-desk/fit')
    await page.click(/^Change it/)
    await page.untilText(/Compare with an earlier fit/)
    await page.click(/Grow the system/)
    await page.choose(/Compare with an earlier fit/, /spare/)
    await page.until(async () => /893\.5 GiB.*fill\s+400\.0 GiB/.test(await table()), 'both sizes side by side')
  })

  it('is unlocked, and says so, when the target changes behind it', async () => {
    await page.next(/Lock this fit/)
    await page.untilFinding(/can start/)
    const drive = openSync(path.join(served.data, 'drives', 'crv5-960.img'), 'r+')
    writeSync(drive, Buffer.from('someone was here'), 0, 16, 512)
    closeSync(drive)
    await page.open('/moves/ticket-desk/fit')
    await page.untilText(/The table of the Corvina S5 960 GB has changed since it was read/)
    await page.untilText(/The fit is unlocked/)
    await page.click(/Read the drives again/)
    await page.untilFinding(/is used/)
  })
})

describe('the other moves of the day', () => {
  it('fit as they are meant to: the lighting desk onto its smaller drive', async () => {
    await openFit('lighting-desk')
    expect(await page.finding()).toMatch(/^It fits, with \d+ GiB to spare/)
    expect(await table()).toMatch(/Lighting \(C:\)\s+2\s+180\.0 GiB\s+120\.\d GiB\s+-59\.\d GiB/)
    await page.click(/^Same sizes/)
    await page.untilFinding(/It misses by 59\.\d GiB/)
    await (await page.find('take-nearest')).click()
    await page.untilFinding(/It fits/)
    await page.next(/Lock this fit/)
    await page.until(async () => (await page.path()).endsWith('/ready'), 'Ready')
  })

  it('the field laptop with its encrypted volume, the server onto virtual disks of any size', async () => {
    await openFit('field-laptop')
    await page.untilText(/stays unused until its system can take the rest by extending the volume once it is open/)
    await openFit('logbook-server')
    const size = await page.driver.findElement(By.xpath('//label[contains(., "Size of the virtual disk")]//input'))
    await size.sendKeys(Key.chord(Key.CONTROL, 'a'), '240 GiB')
    await page.untilFinding(/It misses/)
    await size.sendKeys(Key.chord(Key.CONTROL, 'a'), '600 GiB')
    await page.untilText(/Bridge \(C:\) grows/)
  })

  it('at 390 px nothing is cut off', async () => {
    await page.resize(390, 844)
    await page.open('/moves/lighting-desk/fit')
    await page.untilFinding(/It fits/)
    expect(await page.driver.executeScript('return document.documentElement.scrollWidth')).toBeLessThanOrEqual(390)
    await page.resize(1280, 800)
  })
})
