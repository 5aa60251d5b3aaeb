import { describe, expect, it } from 'vitest'
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

/** From the routes to the fit of the way, or of the first one; what the new computer `needs` is told with the ways. */
async function toFit(move: string, way?: RegExp, needs?: RegExp): Promise<void> {
  await page.open(`/moves/${move}/route`)
  await page.untilFinding(/routes? (works?|can)/)
  if (needs) expect(await (await page.find('needs')).getText()).toMatch(needs)
  if (way) await page.click(way)
  await page.next(/Use this route/)
  await page.until(async () => (await page.path()).endsWith('/fit'), 'the fit')
}

describe('the survey office’s system, on a computer with another controller', () => {
  it('asks for the driver of its controller, and finds it on the stick', async () => {
    await toFit(
      'survey-office',
      /Old drive outside, new one in its computer/,
      /trmst9 [^]*trmne9 [^]*Secure Boot of the new survey office PC accepts/,
    )
    await page.next(/Lock this fit/)
    await page.untilFinding(/can start/)
    await page.untilText(/The driver trmst9 for the new survey office PC is on the stick/)
    await page.untilText(/The driver trmne9 for the network card of the new survey office PC is on the stick/)
    await page.untilText(/Secure Boot of the new survey office PC accepts its loader/)
    await page.click(/Let go of it in Proof/)
    await page.untilText(/What belongs to the old computer goes after the first start/)
  })

  it('is copied, stops at the driver, gets it from the stick, starts, and lets go of the old devices', async () => {
    await setPace(page, /as fast as it goes/)
    await standReady(page)
    await typePlate(page, '8KV1')
    await page.next(/Erase and copy/)
    await page.untilFinding(/reads back equal/, 60_000)
    await page.next(/Continue to Swap/)
    await page.untilFinding(/Set the Ostrica S1 128 GB aside/)
    await tickAllSteps(page)
    await page.untilFinding(/The Tellina N2 1 TB is in the new survey office PC/)
    await page.next(/Continue to Proof/)
    await page.next(/Start the new survey office PC/)
    await page.untilFinding(/It stops at the storage driver/)
    expect(await page.text()).toMatch(/trmst9 is not known to it/)
    await page.next(/Bring in the controller’s driver/)
    await page.untilFinding(/Repaired/)
    await page.next(/Try again/)
    await page.untilFinding(/It starts from the Tellina N2 1 TB, and everything is there/)
    for (const wanted of [/trmne9\.sys is made/, /lets go of 4 devices: Brezza SATA controller/]) {
      expect(await (await page.find('to-do')).getText()).toMatch(wanted)
      await page.click(/^Do it/)
      await page.untilFinding(/It has changed since it started/)
      await page.next(/Try again/)
      await page.untilFinding(/It starts from the Tellina N2 1 TB, and everything is there/)
    }
    expect(await page.text()).not.toMatch(/Still to do/)
  })

  it('is handed over with what its owner has to set anew', async () => {
    await page.next(/Continue to Handover/)
    await page.untilFinding(/The sheet is ready/)
    const sheet = await (await page.find('sheet')).getText()
    expect(sheet).toMatch(/moved to another computer/)
    expect(sheet).toMatch(/Onto\s+Tramonto T9, the new survey office PC/)
    expect(sheet).toMatch(/had a fixed address that its new network card does not have yet: 192\.168\.7\.31/)
  })
})

describe('the logbook server, on its way to a virtual machine', () => {
  it('has its own list', async () => {
    await toFit('logbook-server')
    await page.next(/Lock this fit/)
    await page.untilText(/Corvina H5 500 GB\s+locked/)
    await page.next(/Lock this fit/)
    await page.untilFinding(/left before it can start/)
    const list = await (await page.find('ready-items')).getText()
    expect(list).toMatch(/It becomes a virtual machine on the Workshop host/)
    expect(list).toMatch(/fixed address 192\.168\.7\.20.*starts without network/)
    expect(list).toMatch(/The virtual disk on the Workshop host is made anew/)
  })
})
