import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { Page } from './support/browser'
import { serve, type Served } from './support/serve'
import { place as placeOn, setPace, startCopy } from './support/steps'

let served: Served
let page: Page

beforeAll(async () => {
  served = await serve({ moves: { 'ticket-desk': 'settled' } })
  page = await Page.launch(served.url)
})

afterAll(async () => {
  await page.close()
  await served.close()
})

const place = (drive: string, where: unknown) => placeOn(served, drive, where)

/** How many GiB the page says are copied. */
const copiedGib = async () => Number(/^([\d.]+) GiB of/.exec(await page.finding())?.[1] ?? 0)

describe('a server that is stopped in the middle of a copy', () => {
  it('comes up saying so, with nothing lost, and the copy goes on from what is sure to its verified end', async () => {
    await page.open('/moves/ticket-desk/ready')
    await page.untilFinding(/^It can start/)
    await startCopy(page)
    await page.untilFinding(/[1-9]\d*\.\d GiB of 202\.0 GiB copied/)
    const inTitle = () =>
      page.until(async () => /^[1-9]\d* % · /.test(await page.driver.getTitle()), 'how far in the title')
    await inTitle()
    await page.click(/^Pause$/)
    await page.untilText(/Paused\. /)
    await inTitle()
    const paused = await copiedGib()
    // A page that is opened anew, or in another window, shows the copy as it is.
    await page.driver.navigate().refresh()
    await page.untilText(/Paused\. /)
    expect(await copiedGib()).toBeGreaterThanOrEqual(paused)
    await page.click(/^Resume$/)
    await page.until(async () => (await copiedGib()) > paused + 6, 'more to be copied after the pause')
    const { data, url } = served
    await served.kill()
    served = await serve({ data, port: Number(new URL(url).port) })

    await page.open('/')
    await page.untilText(/Needs you: the copy was cut off/)
    await page.open('/moves/ticket-desk')
    await page.untilFinding(/The copy was cut off/)
    expect(await page.text()).toMatch(/server stopped in the middle of this copy/)
    expect(await page.text()).toMatch(/[\d.]+ GiB are on the target for certain/)
    // Without its drive it does not go on, and says so.
    await place('crv5-960', { kind: 'table' })
    await page.next(/Resume the copy/)
    await page.untilText(/It cannot be resumed yet: The Corvina S5 960 GB is not connected/)
    await place('crv5-960', { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 1' })
    await setPace(page, /as fast as it goes/)
    await page.click(/compare every copied piece/, 'label')
    await page.next(/Resume the copy/)
    await page.untilFinding(/reads back equal/, 240_000)
    const summary = await (await page.find('summary')).getText()
    expect(summary).toMatch(/Cut off and gone on\s+once/)
    expect(await page.text()).toMatch(/copy resumed, every copied piece compared first/)
    const saved = await (await fetch(`${served.url}/api/moves/ticket-desk/copy/summary?leg=1&as=json`)).json()
    expect(saved).toMatchObject({ resumed: 1, digestName: 'BLAKE3', lost: [] })
    expect(saved.events.map((e: { kind: string }) => e.kind)).toEqual(['paused', 'cut', 'read-back'])
    const csv = await (await fetch(`${served.url}/api/moves/ticket-desk/copy/summary?leg=1&as=csv`)).text()
    expect(csv.split('\n')[3]).toMatch(/^3,Harbour \(C:\),used blocks,\d+,/)
  })
})
