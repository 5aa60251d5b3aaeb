import { describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import type { Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import type { Served } from './support/serve'
import { LIGHTING_PLATE, openList, setPace, startLightingDesk, tickAllSteps, typePlate } from './support/steps'

let served: Served
let page: Page

onOwnBench(
  (p, s) => {
    page = p
    served = s
  },
  { 'lighting-desk': 'fitted' },
)

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
    await openList(page, 'lighting-desk')
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
    await openList(page, 'lighting-desk')
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

  it('is followed by BIOS to where its start ends, repaired there, taken back and repaired again, and starts', async () => {
    await page.open('/moves/lighting-desk/copy')
    await page.next(/Continue to Swap/)
    // The old drive hangs at the dock still, with the identity of the new one.
    await page.untilFinding(/Set the Lampara H7 320 GB aside/)
    await page.open('/moves/lighting-desk/proof')
    await page.next(/Start the lighting desk/)
    await page.untilText(/Lampara H7 320 GB in the .* carries the same identity as the Tellina T1 256 GB/)
    await page.open('/moves/lighting-desk/swap')
    await tickAllSteps(page)
    await page.untilFinding(/The Tellina T1 256 GB is in the lighting desk/)
    await page.next(/Continue to Proof/)
    await page.next(/Start the lighting desk/)
    // C: began at a cylinder and begins at a mebibyte now; the boot settings count in bytes.
    await page.untilFinding(/It stops at the system volume/)
    await page.untilText(/Expected the partition at byte/)
    expect(await (await page.find('offered')).getText()).toMatch(
      /In \/Boot\/BCD, “Windows 7” is on partition 2 of this disk/,
    )
    await expectAccessible(page, 'a start that fails, with its repair')
    await page.next(/Point the boot settings at this disk/)
    await page.untilFinding(/Repaired; the next start will tell/)
    await page.click(/Undo it/)
    await page.untilText(/undone/)
    await page.next(/Point the boot settings at this disk/)
    await page.untilFinding(/Repaired/)
    await page.next(/Try again from power-on/)
    await page.untilFinding(/It stops at the sign-in/)
    await page.next(/Give the system volume its letter C/)
    await page.untilFinding(/Repaired/)
    await page.next(/Try again from power-on/)
    await page.untilFinding(/It starts from the Tellina T1 256 GB, with \d+ things? left open/)
  })

  it('is handed over with its lost sectors and its repairs on the sheet', async () => {
    await page.next(/Continue to Handover/)
    await page.untilFinding(/The sheet is ready/)
    const sheet = await (await page.find('sheet')).getText()
    expect(sheet).toMatch(/Lost\s+41 sectors could not be read/)
    expect(sheet.match(/Repaired\s+Point the boot settings at this disk/g)).toHaveLength(1)
    expect(sheet).toMatch(/Repaired\s+Give the system volume its letter C/)
    await page.next(/Hand it over/)
    await page.untilText(/keep until/)
  })
})
