import { describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import type { Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import { closeCase, setPace, standReady, tickAllSteps, typePlate } from './support/steps'

let page: Page

onOwnBench((p) => {
  page = p
})

const LONG = 300_000

/** Presses what leads on, and waits for the page that it leads to. */
async function goOn(label: RegExp, to: RegExp): Promise<void> {
  await page.next(label)
  await page.until(async () => to.test(await page.path()), String(to))
}

/** Ticks what hands do before a leg, where there is anything, and comes to the list. */
async function toReady(): Promise<void> {
  if ((await page.path()).endsWith('/swap')) {
    await page.untilText(/Step 1 of|Nothing has to change places/)
    if (/Step 1 of/.test(await page.text())) await tickAllSteps(page)
    await goOn(/Continue to Ready/, /ready$/)
  }
  await page.untilText(/Plate check/i)
}

describe('the second system of the editing computer', () => {
  it('is asked for where a drive has two, and read with its drives', async () => {
    await page.open('/moves/grading/change')
    await setPace(page, /as fast as it goes/)
    await page.untilText(/What moves of it/)
    await page.open('/moves/grading/intake')
    await page.untilText(/into a drive that keeps everything else/)
    await page.next(/Read the drives/)
    await page.untilText(/Continue to Route/)
  })

  it('is woken and shut down by its own computer', async () => {
    await page.open('/computers/editing-computer')
    await page.click(/^Switch it on/)
    await page.untilText(/Shut it down/)
    await page.click(/^Shut it down/)
    await page.untilText(/Switch it on/)
    await page.open('/moves/grading/survey')
    await page.click(/^Read again/)
    await page.untilText(/Continue to Route/)
  })

  it('gets the place that was prepared, and everything else stays', async () => {
    await goOn(/Continue to Route/, /route$/)
    await page.untilFinding(/routes work/)
    await page.click(/^By an image on the Lampara T4 4 TB(?!,)/)
    await goOn(/Use this route/, /fit$/)
    await page.untilFinding(/^Grading \(C:\) goes into partition 4, GRADE$/)
    await expectAccessible(page, 'fit into a partition')
  })

  it('goes there over an image', async () => {
    await page.next(/Lock this fit/)
    await page.untilText(/Plate check/i)
    await page.click(/Let go of it in Proof/)
    await page.untilText(/What belongs to the old computer goes after the first start/)
    await standReady(page)
    await typePlate(page, '8VA1')
    await page.next(/Write the image/)
    await page.until(async () => (await page.path()).endsWith('/copy'), 'the copy page')
    await page.untilFinding(/reads back equal/, LONG)
    await goOn(/Continue to (Swap|the next leg)/, /(swap|ready)$/)
    await toReady()
    if (/Start it from the stick/.test(await page.text())) await page.click(/Start it from the stick/)
    await page.untilFinding(/^It can start/)
    expect(await page.text()).toMatch(/Partition 4 of it, GRADE, will be written; everything else on it stays/)
    await typePlate(page, '3MN1')
    await page.next(/Write partition 4/)
    await page.until(async () => (await page.path()).endsWith('/copy'), 'the copy page')
    await page.untilFinding(/reads back equal/, LONG)
  })

  it('starts beside the system that was there', async () => {
    await goOn(/Continue to Swap/, /swap$/)
    await page.untilText(/Step 1 of|Nothing has to change places/)
    if (/Step 1 of/.test(await page.text())) await tickAllSteps(page)
    await page.next(/Continue to Proof/)
    await page.next(/Start the cutting-room computer/)
    await page.untilFinding(/It stops at the storage driver/, LONG)
    await page.next(/Start the controller’s driver early/)
    await page.untilFinding(/Repaired/)
    await page.next(/Try again/)
    await page.untilFinding(/^It starts from the Corvina S5/, LONG)
    await page.untilText(/The system that was there starts as before/)
    await page.untilText(/All other partitions are as they were/)
    await closeCase(page)
    await page.untilText(/partition 4 of Lampara B1/)
  })
})
