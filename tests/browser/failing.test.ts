import { describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import type { Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import type { Served } from './support/serve'
import { lightingDeskToReady, setPace, startLightingDesk } from './support/steps'

let served: Served
let page: Page

onOwnBench((p, s) => {
  page = p
  served = s
})

describe('the lighting desk, whose drive fails', () => {
  it('is copied onto its smaller drive but for 41 sectors, which are named by their files', async () => {
    await lightingDeskToReady(page)
    await setPace(page, /as fast as it goes/)
    await startLightingDesk(page)
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
