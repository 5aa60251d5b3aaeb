import { describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import type { Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import { setPace, tickAllSteps } from './support/steps'

let page: Page

onOwnBench((p) => {
  page = p
})

const LONG = 300_000

/** Ticks the steps that a leg asks for, where it asks for any, and settles what is left on its list. */
async function standReady(): Promise<void> {
  await page.untilText(/Where it goes|Plate check/i)
  if (/Show the steps/.test(await page.text())) {
    await page.click(/Show the steps/)
    await tickAllSteps(page)
    await page.next(/Continue to Ready/)
    await page.untilText(/Where it goes|Plate check/i)
  }
  if (/Continue without one/.test(await page.text())) await page.click(/Continue without one/)
}

async function copyLeg(): Promise<void> {
  await standReady()
  await page.untilFinding(/^It can start/)
  await page.next(/Write the virtual disk/)
  await page.until(async () => (await page.path()).endsWith('/copy'), 'the copy page')
  await page.untilFinding(/reads back equal/, LONG)
}

const stepText = async (id: string) =>
  page.driver.executeScript<string>(`return document.querySelector('[data-step="${id}"]')?.innerText ?? ''`)

describe('the logbook server', () => {
  it('gets a route into a virtual machine, and a fit for each of its disks', async () => {
    await page.open('/moves/logbook-server/intake')
    await setPace(page, /as fast as it goes/)
    await page.next(/Read the drives/)
    await page.untilText(/It becomes a virtual disk/)
    await page.next(/Continue to Route/)
    await page.untilFinding(/routes work/)
    expect(await page.text()).not.toMatch(/not possible yet|only planned/)
    await page.next(/Use this route/)
    await page.untilText(/Size of the virtual disk/)
    await expectAccessible(page, 'fit of a virtual disk')
    await page.next(/Lock this fit/)
    await page.untilText(/Corvina H5 1 TB/)
    await page.next(/Lock this fit/)
    await page.untilText(/It becomes a virtual machine on the Workshop host/)
    expect(await page.text()).toMatch(/Its disks are at a SATA controller, since the system starts storahci early/)
  })

  it('is read at the host, drive by drive', async () => {
    await copyLeg()
    expect(await page.text()).toMatch(/Logbook server disk 1\.vhdx/)
    await expectAccessible(page, 'copy into a virtual disk')
    await page.next(/Continue to Swap/)
    await tickAllSteps(page)
    await page.next(/Continue to Ready/)
    await copyLeg()
    await page.next(/Continue to Swap/)
    await tickAllSteps(page)
    await page.next(/Continue to Proof/)
  })

  it('starts as a virtual machine without network, and is cleaned up, connected and cut down in order', async () => {
    await page.untilFinding(/has not been started yet/)
    expect(await stepText('network')).toMatch(/Comes when all volumes are there/)
    await page.next(/Start the logbook server, virtual/)
    await page.untilFinding(/and everything is there/, LONG)
    await expectAccessible(page, 'first start')
    expect(await stepText('devices')).toMatch(/Tramonto storage controller/)
    await page.next(/Remove the old devices/)
    await page.untilFinding(/It has changed since it started/)
    await page.next(/Try again/)
    await page.untilFinding(/and everything is there/, LONG)
    await page.click(/Set the address/)
    await page.untilFinding(/It has changed since it started/)
    await page.next(/Try again/)
    await page.untilFinding(/and everything is there/, LONG)
    expect(await stepText('address')).toMatch(/192\.168\.7\.20, in its registry/)
    await page.fill('VLAN', '20')
    await page.click(/^Connect$/)
    await page.untilText(/Connected, in VLAN 20/)
    await page.click(/Set the size/)
    await page.untilText(/8 GiB and 4 processors/)
  })

  it('has a page as a computer has', async () => {
    await page.open('/computers/logbook-server-machine')
    await page.untilText(/Virtual machine on the Workshop host/)
    expect(await page.text()).toMatch(/Virtual disk A 500 GB/)
    await expectAccessible(page, 'a virtual machine')
    await page.open('/bench')
    await page.untilText(/logbook server, virtual/)
  })

  it('is handed over with a sheet that tells of it', async () => {
    await page.open('/moves/logbook-server/proof')
    await page.next(/Continue to Handover/)
    await page.untilText(/Onto/)
    const sheet = await page.text()
    expect(sheet).toMatch(/Virtual machine, the logbook server, virtual/)
    expect(sheet).toMatch(
      /the Workshop host: UEFI, 4 GiB to 8 GiB of memory, 4 processors, Network 1 connected in VLAN 20/,
    )
    expect(sheet).toMatch(/Let go of the devices of the computer that it came from/)
    await page.next(/Hand it over/)
    await page.untilFinding(/handed over/i)
  })
})
