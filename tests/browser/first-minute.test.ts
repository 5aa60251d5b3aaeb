import { execFileSync } from 'node:child_process'
import { mkdtempSync, rmSync, statSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { cutPartition, extractDigests, gdiskPartitions, gdiskProblems, sfdiskPartitions } from '../support/independent'
import { gptWithExt4, gptWithNtfs, mbrWithLogical, OWN_FILES } from '../support/own-disks'
import { expectAccessible } from './support/axe'
import { Key, Page } from './support/browser'
import { serve, type Served } from './support/serve'
import { standReady, typePlate } from './support/steps'

let served: Served
let page: Page
let folder: string
const imageAt = (name: string) => path.join(served.data, 'images', name)
const driveAt = (serial: string) => path.join(served.data, 'drives', `${serial.toLowerCase()}.img`)
const at = (name: string) => path.join(folder, name)

beforeAll(async () => {
  served = await serve()
  page = await Page.launch(served.url)
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-first-minute-'))
  gptWithNtfs(at('attic pc.img'))
  gptWithNtfs(imageAt('attic again.img'))
  gptWithExt4(imageAt('workshop.img'))
  mbrWithLogical(imageAt('old tower.img'))
})

afterAll(async () => {
  expect(await page.complaints()).toEqual([])
  await page.close()
  await served.close()
  rmSync(folder, { recursive: true, force: true })
})

/** From Survey to Fit. */
async function toFit(): Promise<void> {
  await page.next(/Continue to Route/)
  await page.untilFinding(/routes? (works?|can)/)
  await page.next(/Use this route/)
  await page.untilFinding(/It (just )?fits|It misses/)
}

/** From Fit to a copy that reads back equal. */
async function fromFit(serial: string): Promise<void> {
  await page.next(/Lock this fit/)
  await page.untilText(/Plate check/i)
  await standReady(page)
  await typePlate(page, serial.slice(-4))
  await page.next(/Erase and copy/)
  await page.untilFinding(/reads back equal/, 120_000)
}

/** Types into the palette and takes what it offers first. */
async function byPalette(words: string, wanted: RegExp): Promise<void> {
  await page.shortcut(Key.CONTROL, 'k')
  await page.until(async () => (await page.driver.findElements({ css: '[cmdk-input]' })).length === 1, 'the palette')
  await page.press(words)
  await page.until(
    async () => wanted.test(await page.driver.findElement({ css: '[cmdk-item][data-selected="true"]' }).getText()),
    `${wanted} offered`,
  )
  await page.press(Key.ENTER)
  await page.until(async () => (await page.driver.findElements({ css: '[cmdk-input]' })).length === 0, 'it is gone')
}

/** Digests of the files of a partition, by their names alone. */
function filesOf(disk: string, first: number, last: number, name: string): Map<string, string> {
  const volume = cutPartition(disk, { first, last }, at(`${name}.part`))
  const found = extractDigests(volume, '*', mkdtempSync(path.join(folder, 'out-')))
  return new Map([...found].map(([file, digest]) => [path.basename(file), digest]))
}

function expectOwnFiles(disk: string, from: { first: number; last: number }, source: string, was: typeof from): void {
  const [now, before] = [filesOf(disk, from.first, from.last, 'now'), filesOf(source, was.first, was.last, 'before')]
  for (const name of Object.keys(OWN_FILES).map((file) => path.basename(file))) {
    expect(before.has(name), name).toBe(true)
    expect(now.get(name), name).toBe(before.get(name))
  }
}

/** A bench with nothing on it, so that stick and dock are free. */
async function onNewBench(name: string): Promise<void> {
  await page.open('/bench')
  await (await page.find('bench-menu')).click()
  await page.click(/Make another bench/)
  await page.fill('Its name', name)
  await page.send()
  await page.untilText(/This bench is empty/)
}

describe('an empty bench', () => {
  it('says what to do first, and is told apart from the demo', async () => {
    await page.open('/bench')
    await page.untilText(/Demo: Molo Sette/)
    await onNewBench('Back room')
    await page.open('/')
    await page.untilFinding(/Nothing is moved here yet/)
    expect(await (await page.find('beginnings')).getText()).toMatch(/From a disk[^]*From a computer/)
    expect(await page.text()).not.toMatch(/Demo:/)
    await expectAccessible(page, 'an empty bench')
  })
})

describe('an image that is dropped on the board', () => {
  it('leads on to its files, or to its move', async () => {
    await page.driver.executeScript(
      `const input = document.createElement('input'); input.type = 'file'; input.id = 'held'; document.body.append(input)`,
    )
    await page.driver.findElement({ id: 'held' }).sendKeys(at('attic pc.img'))
    await page.driver.executeScript(`
      const held = document.getElementById('held')
      const data = new DataTransfer()
      data.items.add(held.files[0])
      window.dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true }))
      held.remove()`)
    await page.untilText(/It has arrived/, 120_000)
    expect(statSync(imageAt('attic pc.img')).size).toBe(2 ** 30)
    await page.click(/^Move this system$/)
    await page.untilFinding(/Where does this disk go/)
    await expectAccessible(page, 'a system that is moved')
  })

  it('becomes a move that stands in Survey by a serial and a capacity', async () => {
    await page.fill('Serial number, from its label', 'OWN-LARGE-0001')
    await page.fill('Capacity', '2 GB')
    await page.next(/Open the move and read the drives/)
    await page.until(async () => (await page.path()) === '/moves/attic-pc/survey', 'Survey', 60_000)
    await page.untilFinding(/partitions|used/)
  })

  it('goes onto a larger drive, with the same files for other readers', async () => {
    await page.click(/bench clock/)
    await page.click(/as fast as it goes/, '[role="menuitemradio"]')
    await toFit()
    await fromFit('OWN-LARGE-0001')
    const made = driveAt('own-large-0001')
    expect(gdiskProblems(made)).toBe('')
    const [was, now] = [gdiskPartitions(at('attic pc.img')), gdiskPartitions(made)]
    expect(now.get(2)!.last - now.get(2)!.first).toBeGreaterThan(was.get(2)!.last - was.get(2)!.first)
    expectOwnFiles(made, now.get(2)!, at('attic pc.img'), was.get(2)!)
  })

  it('goes onto a smaller one from the page of its drive, shrunk where the list says that it can be', async () => {
    await onNewBench('Attic')
    await page.open('/moves/new?image=attic%20again.img')
    await page.untilFinding(/Where does/)
    await page.fill('Serial number, from its label', 'OWN-SMALL-0002')
    await page.fill('Capacity', '600 MB')
    await page.next(/Open the move and read the drives/)
    await page.until(async () => (await page.path()) === '/moves/attic-again/survey', 'Survey', 60_000)
    await toFit()
    if (/It misses/.test(await page.finding())) {
      await page.click(/^Shrink it to .*fits/s)
      await page.untilFinding(/It (just )?fits/)
    }
    await fromFit('OWN-SMALL-0002')
    const made = driveAt('own-small-0002')
    expect(gdiskProblems(made)).toBe('')
    const source = imageAt('attic again.img')
    expectOwnFiles(made, gdiskPartitions(made).get(2)!, source, gdiskPartitions(source).get(2)!)
  })
})

describe('a disk with ext4', () => {
  it('goes onto a smaller drive by the keyboard alone', async () => {
    await onNewBench('Workshop')
    await page.open('/images/workshop.img')
    await byPalette('follow the start', /Follow the start/)
    await page.untilFinding(/It stops at|It starts|holds/)
    await page.press(Key.ENTER)
    await page.until(async () => (await page.path()) === '/images/workshop.img', 'the image')
    await byPalette('move this system', /Move this system/)
    await page.untilFinding(/Where does/)
    await page.press('OWN-KEYS-0003')
    await page.press(Key.TAB)
    await page.press('512 MB', Key.ENTER)
    await page.until(async () => (await page.path()) === '/moves/workshop/survey', 'Survey', 60_000)
    await page.untilFinding(/partitions|used/)
    await page.press(Key.ENTER)
    await page.untilFinding(/routes? (works?|can)/)
    await page.press(Key.ENTER)
    await page.untilFinding(/It (just )?fits/)
    await page.press(Key.ENTER)
    await page.untilText(/Plate check/i)
    if (/Show the steps/.test(await page.text())) {
      await byPalette('show the steps', /Show the steps/)
      await page.untilText(/Step 1 of (\d+)/)
      const steps = Number(/Step 1 of (\d+)/.exec(await page.text())![1])
      for (let step = 1; step <= steps; step++) {
        await page.press(' ')
        if (step < steps) await page.untilText(new RegExp(`Step ${step + 1} of ${steps}`))
      }
      await page.untilFinding(/The drives are in their places/)
      await page.press(Key.ENTER)
      await page.untilText(/Plate check/i)
    }
    await byPalette('start it from the stick', /Start it from the stick/)
    await page.untilText(/runs from the rescue stick/)
    if (/Continue without/.test(await page.text())) await byPalette('continue without', /Continue without/)
    await page.untilFinding(/^It can start/)
    const field = 'document.activeElement?.getAttribute("aria-label")?.includes("serial")'
    for (let i = 0; i < 80 && !(await page.driver.executeScript(`return ${field}`)); i++) await page.press(Key.TAB)
    await page.press('0003', Key.ENTER)
    await page.untilFinding(/reads back equal/, 120_000)
    const made = driveAt('own-keys-0003')
    expect(gdiskProblems(made)).toBe('')
    const [was, now] = [gdiskPartitions(imageAt('workshop.img')), gdiskPartitions(made)]
    execFileSync('/usr/sbin/e2fsck', ['-fn', cutPartition(made, now.get(2)!, at('checked.part'))], { stdio: 'pipe' })
    expectOwnFiles(made, now.get(2)!, imageAt('workshop.img'), was.get(2)!)
  })
})

describe('a disk with an MBR and logical volumes', () => {
  it('goes onto a larger drive with both of them', async () => {
    await onNewBench('Tower')
    await page.open('/images/old%20tower.img')
    await page.click(/^Move this system$/)
    await page.untilFinding(/Where does/)
    expect(await page.text()).toMatch(/It starts by BIOS/)
    await page.fill('Serial number, from its label', 'OWN-TOWER-0004')
    await page.fill('Capacity', '2 GB')
    await page.next(/Open the move and read the drives/)
    await page.until(async () => (await page.path()) === '/moves/old-tower/survey', 'Survey', 60_000)
    await toFit()
    await fromFit('OWN-TOWER-0004')
    const made = driveAt('own-tower-0004')
    const volumes = (disk: string) => sfdiskPartitions(disk).filter((p) => p.type === '83')
    const [was, now] = [volumes(imageAt('old tower.img')), volumes(made)]
    expect(now.length).toBe(2)
    for (const [i, { start, size }] of now.entries()) {
      const cut = { first: start, last: start + size - 1 }
      execFileSync('/usr/sbin/e2fsck', ['-fn', cutPartition(made, cut, at(`logical ${i}.part`))], { stdio: 'pipe' })
      expectOwnFiles(made, cut, imageAt('old tower.img'), { first: was[i].start, last: was[i].start + was[i].size - 1 })
    }
  })
})
