import { mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import {
  checkFat,
  cutPartition,
  digestOfData,
  diskGuid,
  extractDigests,
  gdiskPartitions,
  gdiskProblems,
  listFiles,
  volumeSize,
} from '../support/independent'
import { expectAccessible } from './support/axe'
import { By, Key, Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import type { Served } from './support/serve'
import { closeCase, settle, setPace, tickAllSteps, toFit, toReady, toRoute, toSurvey, typePlate } from './support/steps'

let page: Page
let served: Served
let folder: string
const sourceFile = () => path.join(served.data, 'drives', 'crv3-240.img')
const targetFile = () => path.join(served.data, 'drives', 'crv5-960.img')
let sourceBefore: string

onOwnBench((...given) => ([page, served] = given))

beforeAll(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-proof-'))
  sourceBefore = digestOfData(sourceFile())
})

afterAll(() => rmSync(folder, { recursive: true, force: true }))

describe('the ticket desk', () => {
  it('stands on the board as one of eight moves that need someone', async () => {
    await page.open('/')
    expect(await page.finding()).toBe('Eight moves need you')
    const text = await page.text()
    for (const name of [
      'Ticket desk',
      'Lighting desk',
      'Logbook server',
      'Field laptop',
      'Editing computer',
      'Survey office PC',
    ]) {
      expect(text).toContain(name)
    }
    expect(text).toContain('may be erased')
    await expectAccessible(page, 'board')
    await page.open('/bench')
    await expectAccessible(page, 'bench')
  })

  it('is taken in with its computer, its drives and what is at stake', async () => {
    await page.open('/')
    await page.press(Key.ENTER)
    await page.untilFinding(/More room for the ticket desk/)
    const text = await page.text()
    expect(text).toMatch(/UEFI, Secure Boot on/)
    expect(text).toMatch(/CRV3-8841-07KD/)
    expect(text).toMatch(/sold as 240 GB, holds 223\.6 GiB/)
    expect(text).toMatch(/backup of 2 May/)
    await expectAccessible(page, 'intake')
  })

  it('is surveyed: partitions, the hidden ones too, and what is used', async () => {
    await toSurvey(page)
    await page.untilFinding(/^90 % of Harbour \(C:\) is used, and all of it is sound$/)
    const text = await page.text()
    expect(text).toMatch(/3 hidden partitions are copied too/)
    expect(text).toMatch(/201\.5 GiB/)
    expect(text).toMatch(/GPT, both copies agree/)
    await expectAccessible(page, 'survey')
  })

  it('can be started before the swap, and says that the old drive is still in', async () => {
    await page.open('/moves/ticket-desk/proof')
    await page.untilText(/old drive is still in the ticket desk/)
    await page.next(/Start the ticket desk/)
    await page.untilFinding(/It starts, from the old drive/)
    expect(await page.driver.findElements({ css: '[data-testid="chain"] [data-state="passed"]' })).toHaveLength(8)
    expect(await page.text()).toMatch(/says nothing about the new one/)
    await expectAccessible(page, 'proof before the swap')
  })

  it('has several ways, the first with its time and what limits it', async () => {
    await toRoute(page)
    expect(await page.finding()).toMatch(/routes work; (some test|one tests) the new drive in place/)
    const text = await page.text()
    expect(text).toMatch(/New drive outside, swap after/)
    expect(text).toMatch(/18 – 23 min\s+limited by USB dock A, bay 1, USB 5 Gb\/s/)
    expect(text).toMatch(/Both drives inside/)
    expect(text).toMatch(/No copy went over these links yet/)
    await expectAccessible(page, 'route')
  })

  it('fits with its recovery partition at the end, in both scales, and by other rules', async () => {
    await toFit(page)
    expect(await page.finding()).toBe('It fits, with 670 GiB to spare')
    const table = await page.find('fit-table')
    expect(await table.getText()).toMatch(
      /Harbour \(C:\)\s+3\s+222\.8 GiB\s+893\.5 GiB\s+\+670\.7 GiB\s+117 MiB\s+fill/,
    )
    await page.click(/to scale/)
    await page.click(/^Keep/, '[role="radio"]')
    await page.untilText(/670\.\d GiB stays unallocated/)
    await page.click(/^Set/, '[role="radio"]')
    const size = await page.driver.findElement({ css: 'input[aria-invalid]' })
    await size.sendKeys(Key.chord(Key.CONTROL, 'a'), '+20 %')
    await page.untilText(/grows from 222\.8 GiB to 267\.4 GiB/)
    await size.sendKeys(Key.chord(Key.CONTROL, 'a'), '2 TB')
    await page.untilFinding(/It misses by \d/)
    expect(await (await page.find('next-action')).isEnabled()).toBe(false)
    await page.click(/^Fill/, '[role="radio"]')
    await page.click(/Table, places and identity/, 'summary')
    await page.choose(/Leave unallocated/, /^10 %/)
    await page.untilText(/89\.\d GiB stays unallocated/)
    await page.choose(/Leave unallocated/, /^nothing/)
    await page.untilText(/grows from 222\.8 GiB to 893\.5 GiB/)
    await expectAccessible(page, 'fit')
  })

  it('waits until everything is settled and the plate is read, and takes no wrong characters', async () => {
    await toReady(page)
    expect(await page.finding()).toBe('One item left before it can start')
    await typePlate(page, '4M')
    await page.untilText(/1 item and 2 characters left/)
    await expectAccessible(page, 'ready')
    await settle(page)
    await typePlate(page, '1X')
    await page.next(/Erase and copy/)
    await page.untilText(/not the last four characters on the Corvina S5 960 GB\. Nothing was written/)
    expect(statSync(targetFile()).blocks).toBe(0)
    await typePlate(page, Key.BACK_SPACE + Key.BACK_SPACE)
  })

  it('is copied at thirty times the pace, seen alike from a second window, then as fast as it goes', async () => {
    await typePlate(page, '1Q')
    await page.next(/Erase and copy/)
    await page.untilFinding(/GiB of 202\.0 GiB copied/)
    const second = await Page.launch(served.url)
    try {
      await second.open('/moves/ticket-desk/copy')
      await second.untilFinding(/GiB of 202\.0 GiB copied/)
      await second.untilText(/in hand, \d/)
      const earlier = parseFloat(await second.finding())
      await second.until(async () => parseFloat(await second.finding()) > earlier, 'the second window goes on')
      await second.click(/Pause/)
      await page.untilText(/Paused\./)
      await second.click(/^Resume$/)
      await page.until(async () => !/Paused\./.test(await page.text()), 'it goes on')
      // Bench time runs ahead of real time, at the pace shown.
      await page.until(
        async () => /09:0[1-9]|09:1\d/.test(await (await page.find('pace')).getText()),
        'bench time goes on',
      )
      await page.driver.navigate().refresh()
      await page.untilFinding(/GiB of 202\.0 GiB copied/)
      await expectAccessible(page, 'copy, running')
      await setPace(page, /as fast as it goes/)
      await second.untilFinding(/202\.0 GiB copied, and all of it reads back equal/, 120_000)
    } finally {
      await second.close()
    }
    await page.untilFinding(/202\.0 GiB copied, and all of it reads back equal/)
    const summary = await (await page.find('summary')).getText()
    expect(summary).toMatch(/3 Harbour \(C:\)\s+used blocks\s+201\.5 GiB/)
    expect(summary).toMatch(/Copying\s+8 min 5\d s/)
    expect(summary).toMatch(/Lost\s+nothing/)
    const lines = By.css('[aria-label="Speed over time"] svg path')
    await page.until(async () => (await page.driver.findElements(lines)).length > 0, 'the line of the speed')
    await expectAccessible(page, 'copy, done')
  })

  it('is swapped step by step, by keyboard, which moves the drives on the bench', async () => {
    await page.next(/Continue to Swap/)
    await page.untilFinding(/Shut the ticket desk down/)
    await expectAccessible(page, 'swap')
    const steps = Number(/Step 1 of (\d+)/.exec(await page.text())![1])
    await page.driver.executeScript('performance.clearResourceTimings()')
    await tickAllSteps(page)
    await page.untilFinding(/The Corvina S5 960 GB is in the ticket desk/)
    // A page that asked for a change reads itself anew, and not once more because it is told of it.
    const readings = await page.driver.executeScript<number>(
      `return performance.getEntriesByType('resource').filter((entry) => /swap\\?_rsc=/.test(entry.name)).length`,
    )
    expect(readings).toBeGreaterThanOrEqual(steps)
    expect(readings).toBeLessThan(1.5 * steps)
    await page.click(/Untick the last step/)
    await page.untilText(/Step (\d+) of \1\b/)
    await (await page.find('next-action')).click()
    await page.untilFinding(/The Corvina S5 960 GB is in the ticket desk/)
    const text = await page.text()
    expect(text).toMatch(/New drive\s+Corvina S5 960 GB\s+s\/n CRV5-2207-4M1Q\s+ticket desk, SATA 0/)
    expect(text).toMatch(/Old drive\s+Corvina S3 240 GB\s+s\/n CRV3-8841-07KD\s+on the shelf/)
  })

  it('starts from the new drive, link by link, with the evidence for each', async () => {
    await page.next(/Continue to Proof/)
    await page.next(/Try again from power-on/)
    await page.untilFinding(/It starts from the Corvina S5 960 GB, and everything is there/)
    expect(await page.driver.findElements({ css: '[data-testid="chain"] [data-state="passed"]' })).toHaveLength(8)
    const chain = await (await page.find('chain')).getText()
    expect(chain).toMatch(/Boot entry 0003 names partition 7c1e…a204 on Corvina S5 960 GB, SATA 0/)
    expect(chain).toMatch(/same bytes as the source/)
    const checks = await (await page.find('proof-checks')).getText()
    expect(checks).toMatch(/4 of 4/)
    expect(checks).toMatch(/\d{3} files compared/)
    await expectAccessible(page, 'proof')
  })

  it('is handed over with a sheet that can be printed', async () => {
    await closeCase(page)
    await page.untilFinding(/The sheet is ready/)
    await page.next(/Hand it over/)
    await page.untilFinding(/Handed over on 4 May 2026/)
    const sheet = await (await page.find('sheet')).getText()
    expect(sheet).toMatch(/Copied\s+202\.0 GiB on 4 May 2026/)
    expect(sheet).toMatch(/Harbour \(C:\)\s+222\.8 GiB\s+893\.5 GiB/)
    expect(sheet).toMatch(/kept here until 18 May 2026/)
    await expectAccessible(page, 'handover')
    const pdf = Buffer.from(await page.print(), 'base64')
    expect(pdf.subarray(0, 5).toString()).toBe('%PDF-')
    writeFileSync(path.join(folder, 'sheet.pdf'), pdf)
    expect(readFileSync(path.join(folder, 'sheet.pdf')).length).toBeGreaterThan(20_000)
    await page.open('/')
    await page.untilText(/Handed over, old drive on the shelf/)
    expect(await page.complaints()).toEqual([])
  })
})

describe('the drives afterwards, read by programs that are not Imbarco', () => {
  it('keep the source as it was, byte for byte', () => {
    expect(digestOfData(sourceFile())).toBe(sourceBefore)
  })

  it('carry the same partitions, the last one moved and the system grown', () => {
    expect(gdiskProblems(targetFile())).toBe('')
    expect(diskGuid(targetFile())).toBe(diskGuid(sourceFile()))
    const before = gdiskPartitions(sourceFile())
    const after = gdiskPartitions(targetFile())
    expect([...after.keys()]).toEqual([1, 2, 3, 4])
    for (const [number, p] of after)
      expect([p.guid, p.type]).toEqual([before.get(number)!.guid, before.get(number)!.type])
    expect(after.get(1)).toMatchObject({ first: 2048, last: 206_847 })
    expect(after.get(3)).toMatchObject({ first: 239_616, last: 1_874_053_119 })
    expect(after.get(4)).toMatchObject({ first: 1_874_053_120, last: 1_875_384_319 })
  })

  it('hold the same files in every volume, with the same contents', () => {
    const before = gdiskPartitions(sourceFile())
    const after = gdiskPartitions(targetFile())
    for (const [number, folders] of [
      [1, ['EFI']],
      [3, ['Windows', 'Program Files']],
      [4, ['Recovery/WindowsRE/boot.sdi']],
    ] as const) {
      const old = cutPartition(sourceFile(), before.get(number)!, path.join(folder, `old${number}.img`))
      const now = cutPartition(targetFile(), after.get(number)!, path.join(folder, `now${number}.img`))
      expect([...listFiles(now)].sort()).toEqual([...listFiles(old)].sort())
      for (const [i, part] of folders.entries()) {
        const oldDigests = extractDigests(old, part, path.join(folder, `old${number}-${i}`))
        expect(oldDigests.size).toBeGreaterThan(0)
        expect([...extractDigests(now, part, path.join(folder, `now${number}-${i}`))].sort()).toEqual(
          [...oldDigests].sort(),
        )
      }
      if (number === 1) expect(checkFat(now)).toMatch(/clusters$/m)
      // The whole partition but its last sector, which holds the boot sector's copy.
      if (number === 3) expect(volumeSize(now)).toBeGreaterThanOrEqual((1_874_053_119 - 239_616) * 512)
    }
  })
})

describe('what the run left', () => {
  it('is a bench of a few megabytes', () => {
    expect(statSync(targetFile()).size).toBe(960_197_124_096)
    expect(statSync(targetFile()).blocks * 512).toBeLessThan(100 * 1024 * 1024)
  })
})
