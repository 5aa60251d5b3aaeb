import { describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import type { Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import type { Served } from './support/serve'
import { LIGHTING_PLATE, lightingDeskToReady, setPace, startLightingDesk, typePlate } from './support/steps'

let served: Served
let page: Page

onOwnBench((p, s) => {
  page = p
  served = s
})

/** What the stand-in of the lighting desk's new drive does to what is written to it. */
async function misstores(sectors: string): Promise<void> {
  await page.open('/bench')
  await page.click(/Pick up the Tellina T1 256 GB/)
  await page.click(/^Change$/)
  await page.fill('Sectors it stores wrongly', sectors)
}

describe('a new drive that stores wrongly', () => {
  it('is found out by the reading back', async () => {
    await misstores('somewhere')
    await (await page.find('dialog-action')).click()
    await page.untilText(/The sectors are no list/)
    await page.fill('Sectors it stores wrongly', '9999999999999')
    await (await page.find('dialog-action')).click()
    await page.untilText(/lies behind the end of the drive/)
    await page.fill('Sectors it stores wrongly', '2048, 2050+3')
    await page.send()
    await lightingDeskToReady(page)
    await setPace(page, /as fast as it goes/)
    await startLightingDesk(page)
    await page.untilFinding(/The new drive does not give back what was written/, 90_000)
    const text = await page.text()
    expect(text).toMatch(/does not give back what was written to it, from sector 2048 on/)
    expect(text).toMatch(/It stays marked as unfinished; the source is untouched/)
    await expectAccessible(page, 'a copy that did not read back equal')
    await page.next(/Choose another target/)
    await page.untilText(/Change it/)
    await page.open('/drives/tln1-256')
    await page.untilText(/unfinished/)
  })
})

describe('the lighting desk, whose drive fails', () => {
  it('is copied onto its smaller drive but for 41 sectors, which are named by their files', async () => {
    await misstores(' ')
    await page.send()
    await page.open('/moves/lighting-desk/ready')
    await page.untilText(/Plate check/i)
    await typePlate(page, LIGHTING_PLATE)
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
