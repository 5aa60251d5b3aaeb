import { describe, expect, it } from 'vitest'
import { expectAccessible } from './support/axe'
import { By, type Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import type { Served } from './support/serve'

// Drives of the bench, looked into.

let page: Page
let served: Served

onOwnBench((...given) => ([page, served] = given))

const rows = async () =>
  Promise.all(
    (await page.driver.findElements(By.css('[data-testid="partitions"] tbody tr'))).map(async (row) =>
      (await row.getText()).replace(/\s+/g, ' '),
    ),
  )

describe('a drive', () => {
  it('that fails is told first, on the bench and on its own page, with the attribute that decided', async () => {
    await page.open('/bench')
    await page.untilFinding(/One drive is failing/)
    await page.click(/^Lampara H7/)
    await page.untilText(/Part of: Lighting desk, Puppet theatre on the quay \(source\)/)
    await page.untilText(/Sectors waiting\s+41/)
    await page.next(/Look inside/)
    await page.untilFinding(/The drive is failing/)
    await page.untilText(/41 sectors cannot be read/)
    expect(await rows()).toEqual([
      expect.stringMatching(/^System Reserved 1 boot, active NTFS, clean 2.048 350 MiB/),
      // C: was once put at the beginning of a cylinder.
      'Unallocated 718 848 2.0 MiB',
      expect.stringMatching(/^Lighting \(C:\) 2 system NTFS, clean/),
      expect.stringMatching(/^Extended 3 extended/),
      expect.stringMatching(/^Shows 5 data, logical NTFS, clean/),
    ])
    await page.click(/^Shows$/)
    await page.untilText(/Files of Shows/)
    await page.click(/^Three lanterns$/)
    await page.untilText(/0002\.show/)
    await page.click(/Show bytes and fields/)
    await page.click(/^Record of partition 5$/)
    await page.untilText(/Extended boot record/i)
    await expectAccessible(page, 'a drive')
  })

  it('with two systems names both, and the one that is asleep', async () => {
    await page.open('/drives/lmb1-256')
    expect(await page.finding()).toBe('The system on Grading (C:) is asleep')
    await page.untilText(/Montage holds macOS 10\.13\.6/)
    await page.untilText(/hibernated, or shut down with fast start/)
    await page.click(/^Grading \(C:\)$/, 'th button')
    await page.untilText(/Hibernation file\s+6\.3 GiB, asleep/)
  })

  it('that is encrypted says so and offers no files', async () => {
    await page.open('/drives/osn1-512')
    expect(await page.finding()).toMatch(/is encrypted$/)
    await page.untilText(/Only a copy of every sector of it is honest/)
    expect(await page.driver.findElements(By.css('[data-testid="files"]'))).toEqual([])
  })

  it('that is empty, and one that is not on the bench', async () => {
    await page.open('/drives/tln1-256')
    expect(await page.finding()).toBe('The drive is empty')
    await page.driver.get(`${served.url}/drives/nothing`)
    await page.untilText(/not here|nothing here|no such/i)
    expect(await page.complaints()).toEqual([])
  })

  it('of a move can be looked into from its survey', async () => {
    await page.open('/moves/lighting-desk/intake')
    await page.next(/Read the drives/)
    await page.untilText(/Findings/)
    await page.click(/Look inside the Lampara H7/)
    await page.untilFinding(/The drive is failing/)
  })
})
