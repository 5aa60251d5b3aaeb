// Drives the real interface over a bench of its own and keeps a picture of each main view.
import { mkdirSync, writeFileSync } from 'node:fs'
import path from 'node:path'
import { Key, Page } from '../tests/browser/support/browser'
import { serve } from '../tests/browser/support/serve'
import {
  closeCase,
  PLATE,
  settle,
  setPace,
  toFit,
  toReady,
  toRoute,
  toSurvey,
  typePlate,
} from '../tests/browser/support/steps'

const FOLDER = path.join('docs', 'screenshots')

const served = await serve()
const page = await Page.launch(served.url)
const keep = async (name: string) => {
  // The pointer's hover and the focus of the last click are no part of the picture.
  await page.driver.executeScript('document.activeElement?.blur()')
  writeFileSync(path.join(FOLDER, `${name}.png`), await page.driver.takeScreenshot(), 'base64')
}

try {
  mkdirSync(FOLDER, { recursive: true })
  await page.open('/moves/ticket-desk/intake')
  await keep('intake')
  await toSurvey(page)
  await keep('survey')
  await toRoute(page)
  await keep('route')
  await toFit(page)
  await keep('fit')
  await toReady(page)
  await typePlate(page, PLATE.slice(0, 2))
  await keep('ready')
  await settle(page)
  await typePlate(page, PLATE.slice(2))
  await page.next(/Erase and copy/)
  await page.untilFinding(/^1[2-9]\d\.\d GiB of 202\.0 GiB copied/, 60_000)
  await keep('copy')
  await page.open('/')
  await page.untilText(/Copying, \d+ %/)
  await keep('board')
  await page.open('/moves/ticket-desk/copy')
  await setPace(page, /as fast as it goes/)
  await page.untilFinding(/reads back equal/, 60_000)
  await page.next(/Continue to Swap/)
  for (let step = 1; step <= 9; step++) {
    await page.untilText(new RegExp(`Step ${step} of 9`))
    if (step === 6) await keep('swap')
    await page.press(' ')
  }
  await page.next(/Continue to Proof/)
  await page.next(/Start the ticket desk/)
  await page.untilFinding(/everything is there/)
  await keep('proof')
  await page.open('/computers/ticket-desk')
  await page.untilText(/Boot menu/)
  await keep('computer')
  await page.open('/moves/ticket-desk/proof')
  await closeCase(page)
  await page.next(/Hand it over/)
  await page.untilFinding(/Handed over/)
  await keep('handover')
  await page.open('/shelf')
  await page.untilText(/Choir/)
  await keep('shelf')
  await page.open('/bench')
  await page.click(/Pick up the Tellina T1 256 GB/)
  await page.untilFinding(/in hand/)
  await page.driver.executeScript('window.scrollTo(0, 0)')
  await keep('bench')
  await page.press(Key.ESCAPE)
  await page.open('/moves/new?image=survey%20office%203%20May.vhdx')
  await page.untilFinding(/Where does/)
  await page.fill('Serial number, from its label', 'OST1-4470-C2')
  await keep('from-disk')
  await page.open('/images/kiosk%2C%20table%20damaged.img/start')
  await page.untilFinding(/It stops at/)
  await keep('start')
  await page.open('/moves/lighting-desk/intake')
  await page.next(/Read the drives/)
  await page.untilText(/Findings/)
  await page.next(/Route/)
  await page.next(/Use this route/)
  await page.untilText(/Size rule/)
  await page.driver.executeScript("document.documentElement.dataset.theme = 'night'")
  await keep('fit-night')
  await page.driver.executeScript("document.documentElement.dataset.theme = 'day'")
  await page.open('/drives/lmb1-256')
  await keep('drive')
  await page.open('/images')
  await page.click(/^survey office/)
  await page.click(/^Convert$/)
  await page.untilText(/Whole\./)
  await keep('images')
  await page.resize(390, 844)
  await page.open('/moves/ticket-desk/proof')
  await keep('proof-narrow')
} finally {
  await page.close()
  await served.close()
}
