import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { Page } from './support/browser'
import { serve, type Served } from './support/serve'
import { fromSurveyToReady, settle, setPace, startCopy, toSurvey } from './support/steps'

let served: Served
let page: Page

beforeAll(async () => {
  served = await serve()
  page = await Page.launch(served.url)
})

afterAll(async () => {
  await page.close()
  await served.close()
})

describe('a server that is stopped in the middle of a copy', () => {
  it('comes up saying so, with nothing lost, and the copy can be started over', async () => {
    await toSurvey(page)
    await fromSurveyToReady(page)
    await settle(page)
    await startCopy(page)
    await page.untilFinding(/[1-9]\d*\.\d GiB of 202\.0 GiB copied/)
    const { data, url } = served
    await served.kill()
    served = await serve({ data, port: Number(new URL(url).port) })

    await page.open('/')
    await page.untilText(/Needs you: the copy was cut off/)
    await page.open('/moves/ticket-desk')
    await page.untilFinding(/The copy was cut off/)
    expect(await page.text()).toMatch(/server stopped in the middle of this copy/)
    // Nothing starts from the half-written drive, and the survey calls it what it is.
    await page.next(/Start the copy over/)
    await page.untilFinding(/^It may start/)
    await startCopy(page)
    await setPace(page, /as fast as it goes/)
    await page.untilFinding(/reads back equal/, 120_000)
  })
})
