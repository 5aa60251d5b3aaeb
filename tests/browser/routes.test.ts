import { describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import { By, Key, type Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import type { Served } from './support/serve'
import { goPast, place as placeOn, setPace, tickAllSteps, typePlate } from './support/steps'

let served: Served
let page: Page

onOwnBench(
  (p, s) => {
    page = p
    served = s
  },
  {
    ...{ 'field-laptop': 'surveyed', 'lighting-desk': 'surveyed', 'logbook-server': 'surveyed' },
    ...{ 'survey-office': 'surveyed', 'editing-computer': 'surveyed', 'ticket-desk': 'fitted' },
  },
)

async function waysOf(move: string): Promise<string> {
  await page.open(`/moves/${move}/route`)
  await page.untilText(/The order:/)
  return page.text()
}

const place = (drive: string, where: unknown) => placeOn(served, drive, where)

const dockBay = (bay: string) => ({ kind: 'bay', accessoryId: 'dock-a', bay })

/** Takes a thing with the pointer and carries it over another, without letting go. */
async function drag(what: string, over: string): Promise<void> {
  const origin = await page.find(what)
  const goal = await page.find(over)
  await page.driver.executeScript("arguments[0].scrollIntoView({ block: 'center' }); return 0", goal)
  await page.driver
    .actions()
    .move({ origin })
    .press()
    .move({ origin, x: 12, y: 12 })
    .move({ origin: goal, duration: 300 })
    .perform()
}

async function stickAndStart(plate: string): Promise<void> {
  await page.click(/Start it from the stick/)
  await page.untilFinding(/^It can start/)
  await typePlate(page, plate)
  await page.next(/Erase and copy/)
  await page.untilFinding(/reads back equal/, 240_000)
}

describe('the scenario’s moves', () => {
  it('have the ways that their computers imply, and say what does not work', async () => {
    const laptop = await waysOf('field-laptop')
    expect(laptop).toMatch(/The field laptop has one slot for such a drive/)
    expect(laptop).toMatch(/New drive in first, old one outside/)
    expect(laptop).toMatch(/In the USB dock A: it takes 2\.5-inch or 3\.5-inch SATA, the drive is M\.2/)
    await expectAccessible(page, 'ways of the laptop')
    expect(await waysOf('lighting-desk')).toMatch(/USB 2/)
    expect(await waysOf('logbook-server')).toMatch(/Over the network to a virtual disk/)
    expect(await waysOf('survey-office')).toMatch(/From the image on the Workshop host/)
  })
})

describe('a plan', () => {
  it('that a drive was pulled out of says so at once, with where it goes back and the nearest that works', async () => {
    await page.open('/moves/ticket-desk/ready')
    await page.untilFinding(/can start/)
    await place('crv5-960', { kind: 'bay', accessoryId: 'cable-adapter', bay: 'plug' })
    await page.untilText(/The route does not work any more/)
    expect(await page.text()).toMatch(/Put the Corvina S5 960 GB into USB dock A, bay 1 again[^]*nearest that works: /)
    await page.open('/')
    await page.untilText(/Needs you: the route no longer works/)
    await page.open('/moves/ticket-desk/route')
    await page.click(/Show it/)
    await place('crv5-960', dockBay('bay 1'))
    await page.until(async () => !/does not work any more/.test(await page.text()), 'the plan to work again')
  })

  it('cannot be for a target that another move has', async () => {
    await page.open('/moves/new')
    await page.pick('Computer', 'survey office PC')
    await page.pick('Target, will be erased', 'Corvina S5')
    await page.fill('Customer', 'X')
    await page.next(/Open the move/)
    await page.untilText(/The Corvina S5 960 GB is the target of another move: Ticket desk, Lanterna museum/)
  })
})

describe('the editing computer, whose blade no adapter takes', () => {
  it('goes in two legs over the transfer drive, one after the other through Ready, Copy and Swap', async () => {
    const text = await waysOf('editing-computer')
    expect(text).toMatch(/No adapter here takes this blade/)
    expect(text).toMatch(/Enclosure for Brezza Studio blades would make it/)
    await page.click(/^Two legs over the Lampara T4 4 TB(?!, while)/)
    await page.untilText(/All that is on the Lampara T4 4 TB is erased/)
    await page.next(/Use this route/)
    await page.untilFinding(/It fits/)
    await page.next(/Lock this fit/)
    await page.untilText(/Leg 1 of 2/)
    await page.click(/Show the steps/)
    await page.untilFinding(/Put the Lampara T4 4 TB into the USB dock A, bay 2/)
    await page.press(' ')
    await page.untilFinding(/The drives are in their places/)
    await page.next(/Continue to Ready/)
    await page.click(/Continue without/)
    await page.untilText(/No backup, and the customer knows/)
    await goPast(page, 'Its owner is abroad and wants it as it is')
    await setPace(page, /as fast as it goes/)
    await stickAndStart('8VA1')
    expect(await page.text()).toMatch(/Leg\s+1 of 2/)
    await page.next(/Continue to Swap/)
    await tickAllSteps(page)
    await page.untilFinding(/The drives are in their places/)
    expect(await page.text()).toMatch(/leg 2 of 2/)
    await page.next(/Continue to Ready/)
    await page.untilText(/Leg 2 of 2, Lampara T4 4 TB to Lampara B2 1 TB/)
    await stickAndStart('0FD6')
    await page.next(/Continue to Swap/)
    await page.untilText(/Proof|Nothing has been started yet/)
  })
})

describe('a drive in hand', () => {
  it('shows at every place whether it fits, and is refused with its reason where it does not', async () => {
    await page.open('/bench')
    await page.click(/Pick up the Tellina N2 2 TB/)
    await page.untilFinding(/The Tellina N2 2 TB is in hand/)
    const dock = await (await page.find('quay-dock-a')).getText()
    expect(dock).toMatch(/it takes 2\.5-inch or 3\.5-inch SATA, the drive is M\.2 2280, M key/i)
    await expectAccessible(page, 'a drive in hand')
    await page.press(Key.ESCAPE)
    await page.untilFinding(/One drive is failing/)

    // Dragged with the pointer onto a bay that does not take it.
    await drag('drive-tln2-2000', 'berth-bay/dock-a/bay 1')
    await page.untilText(/it takes 2\.5-inch or 3\.5-inch SATA/i)
    await page.driver.actions().release().perform()
    await page.until(
      async () => (await page.driver.findElements(By.css('[data-sonner-toast]'))).length > 0,
      'the reason, said',
    )
    expect(await (await page.find('quay-nvme-enclosure')).getText()).toMatch(/Tellina N2/)
  })

  it('is dragged where it fits', async () => {
    await page.open('/bench')
    await drag('drive-tln1-256', 'berth-bay/cable-adapter/plug')
    await page.untilFinding(/The Tellina T1 256 GB is in hand/)
    await page.driver.actions().release().perform()
    await page.until(
      async () => /Tellina T1/.test(await (await page.find('quay-cable-adapter')).getText()),
      'the drive in the adapter',
    )
    await place('tln1-256', { kind: 'table' })
  })
})
