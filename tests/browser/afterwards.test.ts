import { execFileSync } from 'node:child_process'
import path from 'node:path'
import { By } from 'selenium-webdriver'
import { describe, expect, it } from 'vitest'
import { SheetSchema } from '@/core/handover/sheet'
import { gdiskPartitions, gdiskProblems } from '../support/independent'
import { expectAccessible } from './support/axe'
import { Key, type Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import type { Served } from './support/serve'
import { closeCase, place, settle, setPace, startCopy, toReady } from './support/steps'

let served: Served
let page: Page

onOwnBench(
  (p, s) => {
    page = p
    served = s
  },
  { 'ticket-desk': 'routed' },
)

/** Pulls the ticket desk’s mains cable, or plugs it in, on its page. */
async function mains(on: boolean): Promise<void> {
  await page.open('/computers/ticket-desk')
  await page.click(on ? /^Plug it in/ : /^Pull the cable/)
  await page.untilText(on ? /Plugged in/ : /Not plugged in/)
}

const slot = (name: string) => ({ kind: 'slot', computerId: 'ticket-desk', slot: name })
const countOf = async (css: string) => (await page.driver.findElements(By.css(css))).length
const text = async (testId: string) => (await page.find(testId)).getText()
const targetFile = () => path.join(served.data, 'drives', 'crv5-960.img')
const nonZero = (drive: string) =>
  Number(execFileSync('python3', ['tests/support/non_zero.py', path.join(served.data, 'drives', drive)]).toString())

describe('what goes wrong between the copy and the first start', () => {
  it('begins with a copy that keeps its sizes', async () => {
    await page.open('/moves/ticket-desk/fit')
    await page.untilFinding(/It fits/)
    await page.click(/^Keep/, '[role="radio"]')
    await page.click(/^Recovery$/, 'th button')
    // In front of the system volume, so that the room is right behind that.
    await page.click(/^Earlier$/)
    await page.untilText(/670\.\d GiB stays unallocated/)
    await toReady(page)
    await settle(page)
    await setPace(page, /as fast as it goes/)
    await startCopy(page)
    await page.untilFinding(/reads back equal/, 240_000)
    // What it came to is found again from the board, and leads to the files that were written.
    await page.open('/')
    await page.click(/Result of the copy, Ticket desk/i)
    await page.untilFinding(/reads back equal/)
    await page.click(/Look at its files/)
    await page.until(async () => (await page.path()) === '/drives/crv5-960', 'the new drive')
    await page.untilText(/Harbour \(C:\)/)
  })

  it('is stopped when both drives are in', async () => {
    await mains(false)
    await place(served, 'crv5-960', slot('SATA 1'))
    await mains(true)
    await page.open('/moves/ticket-desk/proof')
    await page.next(/Start the ticket desk/)
    await page.untilFinding(/It stops at the firmware/)
    const chain = await text('chain')
    expect(chain).toMatch(/two drives carry one identity/)
    expect(chain).toMatch(/Corvina S3 240 GB in SATA 0 and Corvina S5 960 GB in SATA 1/)
    expect(chain).toMatch(/Take one of the two out/)
    expect(await text('offered')).toMatch(/Give the drive an identity of its own/)
    await expectAccessible(page, 'a start with both drives in')
    await mains(false)
    await place(served, 'crv5-960', { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 1' })
    await mains(true)
  })

  it('keeps hands out of a computer that has power', async () => {
    await page.open('/moves/ticket-desk/swap')
    for (let step = 1; step <= 4; step++) {
      await page.untilText(new RegExp(`Step ${step} of 8`))
      await page.press(' ')
    }
    await page.untilFinding(/Take the Corvina S3 240 GB out/)
    await mains(true)
    await page.open('/moves/ticket-desk/swap')
    await page.next(/All 4 out, next/)
    await page.untilText(/The mains cable of the ticket desk is in again/)
    await mains(false)
  })

  it('counts every screw out and in again', async () => {
    await page.open('/moves/ticket-desk/swap')
    await page.untilText(/On the tray\s+knurled 6-32 × 6 mm\s+2/i)
    await page.click(/screw 1 of 4 out/)
    await page.untilText(/1 of 4 screws out/)
    expect(await (await page.find('next-action')).isEnabled()).toBe(false)
    await page.click(/screw 4 of 4 out/)
    await page.untilText(/M3 × 5 mm\s+4/)
    await expectAccessible(page, 'swap, with screws ticked')
    await page.next(/Done, next/)
    await page.untilText(/Step 6 of 8/)
    await page.click(/Whole list/)
    expect(await text('whole-list')).toMatch(/Put the side panel back, once it has started/)
    await expectAccessible(page, 'swap, the whole list')
    for (const label of [/Done, next/, /All 4 in, next/, /Done, next/]) await page.next(label)
    await page.untilFinding(/The Corvina S5 960 GB is in the ticket desk/)
    expect(await page.text()).toMatch(/The case is closed after it/)
  })
})

describe('a start that the firmware refuses', () => {
  it('says whose signature is missing, and leads two steps back to the old drive', async () => {
    await page.open('/computers/ticket-desk')
    await page.untilFinding(/The ticket desk is switched off/)
    await page.click(/System loaders 2023/, 'label')
    await page.click(/Keep these settings/)
    await page.untilText(/Keep these settings/)
    await page.open('/moves/ticket-desk/proof')
    await page.next(/Try again from power-on/)
    await page.untilFinding(/It stops at the boot loader/)
    expect(await text('chain')).toMatch(/its signer is not trusted/)
    expect(await text('way-back')).toMatch(/take the Corvina S5 960 GB out/)
    await expectAccessible(page, 'a start that Secure Boot refuses')
    await page.click(/^Done$/, '[data-testid="way-back"] button')
    await page.untilText(/Outside\s+Old drive[^]*New drive/i)
    await page.click(/^Done$/, '[data-testid="way-back"] button')
    await page.untilText(/In the computer now\s+Old drive, SATA 0/i)
  })

  it('starts from the old drive once the signer is trusted again', async () => {
    await page.open('/computers/ticket-desk')
    await page.click(/System loaders 2023/, 'label')
    await page.click(/Keep these settings/)
    await page.open('/moves/ticket-desk/proof')
    await page.next(/Try again from power-on/)
    await page.untilFinding(/It starts, from the old drive/)
    await mains(false)
    await place(served, 'crv3-240', { kind: 'shelf' })
    await place(served, 'crv5-960', slot('SATA 0'))
    await mains(true)
  })

  it('starts by another line of the boot menu, for once', async () => {
    await page.open('/moves/ticket-desk/proof')
    await page.click(/^Corvina S5 960 GB/, '[data-testid="boot-menu"] label')
    await page.next(/Try again from power-on/)
    await page.untilFinding(/It starts from the Corvina S5 960 GB, and everything is there/)
    expect(await text('chain')).toMatch(/the fallback path is on Corvina S5 960 GB/)
  })
})

describe('after it started', () => {
  it('shows the new drive’s speed beside the old one’s', async () => {
    const labels = await page.driver.findElements(By.css('[data-testid="speeds"] [role="img"]'))
    const words = await Promise.all(labels.map((l) => l.getAttribute('aria-label')))
    expect(words).toHaveLength(2)
    for (const label of words) expect(label).toMatch(/: Corvina S3 240 GB \d+, Corvina S5 960 GB \d+/)
    await page.until(async () => (await countOf('[data-testid="speeds"] svg text')) > 0, 'the bars')
    await expectAccessible(page, 'proof, with speeds')
  })

  it('takes up what was left unallocated, and the table stays sound for others', async () => {
    expect(await text('to-do')).toMatch(/670\.\d GiB are unallocated/)
    const before = gdiskPartitions(targetFile()).get(3)!
    await page.click(/Take it up/)
    await page.untilFinding(/It has changed since it started/)
    await page.next(/Try again from power-on/)
    await page.untilFinding(/and everything is there/)
    const after = gdiskPartitions(targetFile()).get(3)!
    expect(after.first).toBe(before.first)
    expect(after.last - before.last).toBeGreaterThan((600 * 1024 ** 3) / 512)
    expect(gdiskProblems(targetFile())).toBe('')
    expect(await text('proof-checks')).toMatch(/Sizes as planned\s+Harbour \(C:\) 893\.\d GiB/)
  })

  it('is not handed over with an open case, and then with a name', async () => {
    await page.open('/moves/ticket-desk/handover')
    await page.next(/Close the case/)
    await page.untilFinding(/Shut the ticket desk down once more/)
    await page.open('/moves/ticket-desk/proof')
    await closeCase(page)
    await page.untilFinding(/The sheet is ready/)
    await page.driver.findElement(By.css('input[placeholder^="Your name"]')).sendKeys('Ilaria')
    await page.fill('Shop, with its address', 'Molo Sette, bench two, Via del Faro 3')
    await page.untilText(/Via del Faro 3/)
    await page.next(/Hand it over/)
    await page.untilFinding(/Handed over/)
    const sheet = await text('sheet')
    expect(sheet).toMatch(/Via del Faro 3/)
    expect(sheet).toMatch(/Done by\s+Ilaria/)
    expect(sheet).toMatch(/Taken up\s+Take the unallocated room up/)
    expect(sheet).toMatch(/Speed\s+reading in one go/)
    expect(sheet).toMatch(/Harbour \(C:\)\s+222\.8 GiB\s+893\.\d GiB/)
    await expectAccessible(page, 'the sheet')
  })

  it('gives the sheet as JSON by its schema, and as PDF', async () => {
    const file = await fetch(`${served.url}/api/moves/ticket-desk/sheet?as=json`)
    const sheet = SheetSchema.parse(await file.json())
    expect([sheet.by, sheet.move.customer, sheet.legs.length]).toEqual(['Ilaria', 'Lanterna museum', 1])
    const schema = (await (await fetch(`${served.url}/api/sheets/schema`)).json()) as { required: string[] }
    expect(schema.required).toContain('legs')
    const pdf = Buffer.from(await (await fetch(`${served.url}/api/moves/ticket-desk/sheet?as=pdf`)).arrayBuffer())
    expect(pdf.subarray(0, 5).toString()).toBe('%PDF-')
    expect(pdf.length).toBeGreaterThan(5000)
    expect((await fetch(`${served.url}/api/moves/lighting-desk/sheet?as=pdf`)).status).toBe(404)
  })
})

describe('the shelf', () => {
  it('erases a drive past its day by its plate, and nothing is left of it', async () => {
    await page.open('/')
    await page.click(/Erase what may be erased/)
    await page.untilFinding(/One drive may be erased/)
    await expectAccessible(page, 'the shelf')
    expect(nonZero('crh2-250.img')).toBeGreaterThan(0)
    await page.next(/Erase the Corvina H2 250 GB/)
    const field = page.driver.findElement(By.css('input[aria-label*="serial"]'))
    await field.sendKeys('XXXX')
    await (await page.find('dialog-action')).click()
    await page.untilText(/not the last four characters on the Corvina H2 250 GB/)
    expect(nonZero('crh2-250.img')).toBeGreaterThan(0)
    await field.sendKeys(`${Key.BACK_SPACE.repeat(4)}6QX0`)
    await page.send()
    await page.untilFinding(/Nothing may be erased yet/)
    expect(nonZero('crh2-250.img')).toBe(0)
  })

  it('keeps the way back until its day, and says why when it is erased before', async () => {
    expect(await text('shelf')).toMatch(/Corvina S3 240 GB[^]*14 more days\s+kept until 18 May 2026/)
    await page.click(/^Erase it/, '[data-testid="shelf"] button')
    await page.driver.findElement(By.css('input[aria-label*="serial"]')).sendKeys('07KD')
    expect(await (await page.find('dialog-action')).isEnabled()).toBe(false)
    await page.untilText(/Why before its day/)
    await page.click(/^(Close|Leave|Cancel)/, '[role="dialog"] button')
  })

  it('prints a label with a code, and puts the drive back where there is room', async () => {
    await page.open('/labels/crv3-240')
    expect(await text('label')).toMatch(/Corvina S3 240 GB\s+s\/n CRV3-8841-07KD\s+Lanterna museum[^]*18 May 2026/)
    expect(await page.driver.findElements(By.css('[data-testid="label"] svg'))).toHaveLength(1)
    await expectAccessible(page, 'a label')
    await page.open('/shelf')
    await page.click(/^Put it back/, '[data-testid="shelf"] button')
    await page.untilText(/The computer has to be without power/)
    await page.choose(/Into/, /ticket desk, SATA 1/)
    await (await page.find('dialog-action')).click()
    await page.untilText(/The ticket desk has power\. Shut it down/)
    await mains(false)
    await page.open('/shelf')
    await page.click(/^Put it back/, '[data-testid="shelf"] button')
    await page.choose(/Into/, /ticket desk, SATA 1/)
    await page.send()
    await page.untilFinding(/The shelf is empty/)
  })

  it('finds the move again by customer, serial and computer', async () => {
    for (const [query, found] of [
      ['lanterna', true],
      ['07kd brezza', true],
      ['4M1Q', true],
      ['beekeepers', false],
    ] as const) {
      await page.open(`/past?q=${encodeURIComponent(query)}`)
      await page.untilFinding(found ? /1 of 1 move/ : /None of them/)
    }
    await expectAccessible(page, 'past moves')
  })
})
