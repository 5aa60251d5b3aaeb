import { describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import type { Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import { setPace, standReady, tickAllSteps, typePlate } from './support/steps'

let page: Page

onOwnBench(
  (p) => {
    page = p
  },
  { 'survey-office': 'surveyed', 'logbook-server': 'surveyed' },
)

const LONG = 300_000

async function openRoutes(move: string): Promise<void> {
  await page.open(`/moves/${move}/route`)
  await setPace(page, /as fast as it goes/)
  await page.untilFinding(/routes work/)
}

/** Presses what leads on, and waits for the page that it leads to. */
async function goOn(label: RegExp): Promise<void> {
  const before = await page.path()
  await page.next(label)
  await page.until(async () => (await page.path()) !== before, 'another page')
}

/** Ticks what hands do before a leg, where there is anything. */
async function places(): Promise<void> {
  await page.untilText(/Step 1 of|Nothing has to change places/)
  if (/Step 1 of/.test(await page.text())) await tickAllSteps(page)
}

describe('the survey office PC, by an image on the transfer drive', () => {
  it('is copied into a file of that drive', async () => {
    await openRoutes('survey-office')
    while ((await page.driver.findElements({ css: 'main button[aria-expanded="false"]' })).length > 0)
      await page.click(/more like it/, 'main button[aria-expanded="false"]')
    await page.click(/^Ostrica S1[\s\S]*Image/)
    await page.next(/Use this route/)
    await page.until(async () => (await page.path()).endsWith('/fit'), 'the fit')
    await page.next(/Lock this fit/)
    await page.untilText(/Survey office PC OSS1-7741-2LM9\.vhdx/)
    await page.click(/Let go of it in Proof/)
    await page.untilText(/What belongs to the old computer goes after the first start/)
    await standReady(page)
    expect(await page.text()).toMatch(/is put on it; its other files stay as they are/)
    await typePlate(page, '8VA1')
    await page.next(/Write the image/)
    await page.until(async () => (await page.path()).endsWith('/copy'), 'the copy page')
    await page.untilFinding(/reads back equal/, LONG)
    await expectAccessible(page, 'copy into an image')
  })

  it('is restored from it, and starts in the new computer', async () => {
    await goOn(/Continue to (Swap|the next leg)/)
    if ((await page.path()).endsWith('/swap')) {
      await places()
      await page.next(/Continue to Ready/)
    }
    await page.untilText(/Plate check/i)
    // The computer runs from the stick since the first leg, unless a drive was put in meanwhile.
    if (/Start it from the stick/.test(await page.text())) await page.click(/Start it from the stick/)
    await page.untilFinding(/^It can start/)
    await typePlate(page, '8KV1')
    await page.next(/Erase and copy/)
    await page.until(async () => (await page.path()).endsWith('/copy'), 'the copy page')
    await page.untilFinding(/reads back equal/, LONG)
    await page.next(/Continue to Swap/)
    await places()
    await page.next(/Continue to Proof/)
    await page.next(/Start the new survey office PC/)
    await page.untilFinding(/It stops at the storage driver/, LONG)
    await page.next(/Bring in the controller’s driver/)
    await page.untilFinding(/Repaired/)
    await page.next(/Try again/)
    await page.untilFinding(/It starts from the Tellina N2 1 TB, and everything is there/, LONG)
  })
})

describe('images outside of moves', () => {
  it('are proved again on the transfer drive at any time', async () => {
    await page.open('/drives/lmt4-4000')
    await page.untilText(/Images on it/i)
    expect(await page.text()).toMatch(/Survey office PC OSS1-7741-2LM9\.vhdx\s+[\s\S]*its record lies beside it/)
    await expectAccessible(page, 'a drive with images')
    await page.click(/^Verify$/)
    await page.until(async () => (await page.path()) === '/images', 'the images page')
    await page.untilText(
      /Survey office PC OSS1-7741-2LM9\.vhdx on the .* held against its record[\s\S]*As it was made/,
      LONG,
    )
  })

  it('are made of a drive, of some of its partitions', async () => {
    await page.open('/drives/crv3-240')
    await page.untilText(/Make an image of it/i)
    // What leads on stays at the foot of the column, over what is not scrolled up to.
    const show = (css: string) =>
      page.driver.executeScript(`document.querySelector('${css}').scrollIntoView({ block: 'center' })`)
    await show('fieldset')
    await page.click(/^4 Recovery/, 'fieldset label')
    await show('form:has(fieldset) button')
    await page.click(/^Make it$/)
    await page.until(async () => (await page.path()) === '/images', 'the images page')
    await page.untilText(/Corvina S3 240 GB to corvina s3 240 gb\.vhdx\s+[\s\S]*Whole\./, LONG)
    // Without the recovery partition, which the table of the image does not name.
    await page.untilText(/corvina s3 240 gb\.vhdx[\s\S]*Harbour/)
    expect(await page.text()).not.toMatch(/Harbour \(C:\)[^;]*; Recovery, NTFS/)
  })
})

describe('the logbook server, over the network while it runs', () => {
  it('is copied into both virtual disks as it was at one moment', async () => {
    await openRoutes('logbook-server')
    await page.click(/Over the network to a virtual disk, while it runs/)
    await page.next(/Use this route/)
    await page.untilText(/Size of the virtual disk/)
    await page.next(/Lock this fit/)
    await page.untilText(/Corvina H5 1 TB/)
    await page.next(/Lock this fit/)
    await page.untilText(/It becomes a virtual machine on the Workshop host/)
    await page.click(/Continue without one/)
    await page.untilFinding(/^It can start/)
    await page.next(/Write the virtual disk/)
    await page.untilText(/2 drives as they are at this one moment/, LONG)
    await page.untilText(/leg 2 of 2 done/, LONG)
    await goOn(/Continue to (Proof|Swap)/)
    if ((await page.path()).endsWith('/swap')) await page.next(/Continue to Proof/)
    await page.next(/Start the logbook server, virtual/)
    await page.untilFinding(/It starts from the Virtual disk A 500 GB/, LONG)
    // The server still runs: it is powered off before the other comes to the network.
    const step = (id: string) =>
      page.driver.executeScript<string>(`return document.querySelector('[data-step="${id}"]')?.innerText ?? ''`)
    expect(await step('network')).toMatch(/Comes when the logbook server is off/)
    await page.click(/Power it off/)
    await page.untilText(/It is off\./)
    expect(await step('network')).toMatch(/Not connected/)
  })
})
