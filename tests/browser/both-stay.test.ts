import { describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import { By, type Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import { setPace, settle, startCopy, tickAllSteps, toSurvey } from './support/steps'

let page: Page

onOwnBench((p) => {
  page = p
})

const LONG = 300_000

describe('an old drive that stays in beside the new one', () => {
  it('is said to stay where the move is opened', async () => {
    await page.open('/moves/ticket-desk/change')
    await page.pick('The old drive', 'stays in')
    await page.next(/Keep this/)
    await page.until(async () => (await page.path()).endsWith('/intake'), 'Intake')
    await page.untilText(/which stays in/)
    await toSurvey(page)
  })

  it('keeps its slot on every way, and the fit gives the new one an identity', async () => {
    await page.open('/moves/ticket-desk/survey')
    await page.next(/Route/)
    await page.untilFinding(/routes? (works?|can)/)
    await page.untilText(/stays in beside the new one/)
    await page.next(/Use this route/)
    await page.untilFinding(/It fits/)
    await page.untilText(/gets the identity/)
    const identity = await page.driver.findElement(By.xpath("//label[contains(., 'Identity of the target')]//select"))
    expect([await identity.getAttribute('value'), await identity.isEnabled()]).toEqual(['all', false])
    await expectAccessible(page, 'fit beside the old drive')
    await page.next(/Lock this fit/)
    await page.until(async () => /(ready|swap)$/.test(await page.path()), 'Ready')
  })

  it('is copied', { timeout: LONG }, async () => {
    await page.open('/moves/ticket-desk/swap')
    await tickAllSteps(page)
    await page.next(/Continue to Ready/)
    await page.untilText(/Plate check/i)
    await settle(page)
    await setPace(page, /as fast as it goes/)
    await startCopy(page)
    await page.untilFinding(/reads back equal/, 240_000)
  })

  it('starts first, until the firmware is told of the new one', { timeout: LONG }, async () => {
    await page.open('/moves/ticket-desk/proof')
    await page.untilText(/Have the firmware start this drive first/)
    await page.next(/Have the firmware start this drive first/)
    await page.untilText(/Start the ticket desk/)
    await page.next(/Start the ticket desk/)
    await page.untilFinding(/starts from the Corvina S5 960 GB, and everything is there/, 60_000)
    await expectAccessible(page, 'proof beside the old drive')
  })

  it('goes back with the computer, and may be erased where it sits', { timeout: LONG }, async () => {
    await page.next(/Continue to Handover/)
    await page.untilText(/is still in it/)
    await page.next(/Hand it over|Hand over/)
    await page.untilFinding(/Handed over/)
    await page.open('/shelf')
    await page.untilText(/stays in the ticket desk, SATA 0/)
    await page.driver
      .findElement(By.xpath("//*[@data-testid='shelf']/li[contains(., 'Corvina S3')]//button[contains(., 'Erase it')]"))
      .click()
    await page.fill('Label of the volume', 'Old films')
    await page.driver.findElement(By.css('input[aria-label*="serial"]')).sendKeys('07KD')
    await page.driver.findElement(By.css('[role="dialog"] textarea')).sendKeys('the museum wants the room')
    await expectAccessible(page, 'erase where it sits')
    await page.send()
    await page.until(async () => !/Corvina S3/.test(await page.text()), 'the drive to leave the list', 60_000)
    await page.open('/drives/crv3-240')
    await page.untilText(/Old films/)
  })
})
