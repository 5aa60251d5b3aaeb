import { describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import type { Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import type { Served } from './support/serve'
import { goPast, place, openList, setPace, startLightingDesk, toReady, typePlate } from './support/steps'

let served: Served
let page: Page

onOwnBench(
  (p, s) => {
    page = p
    served = s
  },
  { 'lighting-desk': 'fitted', 'ticket-desk': 'surveyed' },
)

describe('copies of several moves', () => {
  it('begin with one that runs for a while', async () => {
    await openList(page, 'lighting-desk')
    const list = await (await page.find('ready-items')).getText()
    expect(list).toMatch(/The Lampara H7 320 GB is failing/)
    expect(list).not.toMatch(/is on the network|snapshot/i)
    expect(await (await page.find('how-it-copies')).getText()).toMatch(/Around unreadable sectors/)
    await startLightingDesk(page)
    await page.untilFinding(/GiB of [\d.]+ GiB copied/)
  })

  it('go on beside one of a system that runs, which has a list of its own and two targets in one reading', async () => {
    await page.open('/bench')
    await page.click(/^Add a drive/)
    await page.pick('What stands for it', 'a blank drive')
    await page.fill('Maker and model', 'Tellina T1')
    await page.fill('Serial, as printed', 'TLN1-9001-ZZ9Z')
    await page.fill('Capacity', '960 GB')
    await page.send()
    await page.put(/Pick up the Tellina T1 960 GB/, /Put it here.*bay 2/s)

    await page.open('/moves/ticket-desk/route')
    await page.untilText(/The order:/)
    await page.click(/^New drive outside.*while it runs/)
    await page.next(/Use this route/)
    await page.untilFinding(/It fits/)
    await toReady(page)
    const list = await (await page.find('ready-items')).getText()
    const own = [/Ticket till is running/, /is on the network/, /to sleep after 30 min/, /A snapshot of up to 2 GiB/]
    for (const what of own) expect(list).toMatch(what)
    expect(list).not.toMatch(/rescue stick/)
    await expectAccessible(page, 'the list of a running system')
    await page.click(/^Close it$/)
    await page.untilFinding(/^Four items/)
    await page.click(/^Close it$/)
    await page.untilFinding(/^Three items/)
    await goPast(page, 'The watch may not be stopped here')
    await page.click(/^It is off$/)
    await page.untilFinding(/^One item/)
    await page.click(/^Turn it off$/)
    await page.untilFinding(/^It can start/)

    await page.driver.findElement({ css: 'fieldset input[type="checkbox"]' }).click()
    await page.untilText(/is written in the same reading/)
    await typePlate(page, '4M1Q')
    expect(await (await page.find('next-action')).isEnabled()).toBe(false)
    const plates = await page.driver.findElements({ css: 'input[aria-label*="serial"]' })
    await plates[1].sendKeys('ZZ9Z')
    await page.next(/Erase and copy/)
    await page.untilText(/Copying at the same time/i)
    await page.untilText(/Lighting desk, puppet theatre|Lighting desk/)
    // The second target is pulled out: the first goes on.
    const drives = await (await fetch(`${served.url}/api/benches/molo-sette/export`)).json()
    const second = drives.drives.find((d: { serial: string }) => d.serial === 'TLN1-9001-ZZ9Z')
    await place(served, second.id, { kind: 'table' })
    await page.untilText(/Tellina T1 960 GB is no longer written/)
    await setPace(page, /as fast as it goes/)
    await page.untilFinding(/reads back equal/, 240_000)
    const summary = await (await page.find('summary')).getText()
    expect(summary).toMatch(/Of one moment\s+yes/)
    expect(summary).toMatch(/Tellina T1 960 GB too\s+let go: /)
    expect(await (await page.find('changed')).getText()).toMatch(/\/pagefile\.sys/)
  })

  it('end each by itself', async () => {
    await page.open('/moves/lighting-desk/copy')
    await page.untilFinding(/Copied, but 41 sectors could not be read/, 120_000)
  })
})
