import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import { Page } from './support/browser'
import { serve, type Served } from './support/serve'
import { setPace, tickAllSteps, typePlate } from './support/steps'

let served: Served
let page: Page

beforeAll(async () => {
  served = await serve()
  page = await Page.launch(served.url)
})

afterAll(async () => {
  expect(await page.complaints()).toEqual([])
  await page.close()
  await served.close()
})

/** The lighting desk's own smaller drive, by the end of its label. */
const PLATE = '9QX2'

describe('the lighting desk, whose drive fails', () => {
  it('is copied onto its smaller drive but for 41 sectors, which are named by their files', async () => {
    await page.open('/moves/lighting-desk/intake')
    await page.next(/Take it in/)
    await page.untilText(/What was noticed/)
    await page.next(/Go on to Route/)
    await page.untilFinding(/ways? works?/)
    await page.next(/Take this way/)
    await page.untilFinding(/It fits/)
    await page.next(/Lock this fit/)
    await page.untilText(/Plate check/i)
    if (/Show the steps/.test(await page.text())) {
      await page.click(/Show the steps/)
      await tickAllSteps(page)
      await page.untilFinding(/The drives are in their places/)
      await page.next(/Go on to Ready/)
    }
    await setPace(page, /as fast as it goes/)
    for (const settle of [/Start it from the stick/, /Go on without/]) {
      if (settle.test(await page.text())) await page.click(settle)
    }
    await page.untilFinding(/^It may start/)
    await typePlate(page, PLATE)
    await page.next(/Erase and copy/)
    await page.untilFinding(/Copied, but 41 sectors could not be read, in \d files/, 90_000)
    const lost = await (await page.find('lost')).getText()
    expect(lost).toMatch(/\.wav/)
    expect(lost).toMatch(/\.show/)
    expect(lost).toMatch(/and 22 more/)
    expect(await (await page.find('summary')).getText()).toMatch(/Lost\s+41 sectors could not be read/)
    expect(await page.driver.findElements({ css: '[data-testid="lost-flag"]' })).not.toHaveLength(0)
    const list = await (await fetch(`${served.url}/api/moves/lighting-desk/copy/summary?leg=1&as=lost`)).json()
    expect(list.lost.reduce((sum: number, run: { sectors: number }) => sum + run.sectors, 0)).toBe(41)
    // Another pass over those sectors alone; this drive gives none of them.
    await page.click(/Read them once more/)
    await page.untilText(/nothing more reads/)
    await page.untilFinding(/Copied, but 41 sectors could not be read/)
    await expectAccessible(page, 'a copy with lost sectors')
  })

  it('is not followed where it starts by BIOS, which Proof says', async () => {
    await page.open('/moves/lighting-desk/proof')
    await page.untilFinding(/This start cannot be followed yet/)
    await page.untilText(/read back and is equal/)
  })
})
