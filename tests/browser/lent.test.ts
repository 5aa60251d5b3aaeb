import { describe, expect, it } from 'vitest'
import { nbdAddress } from '@/nbd/address'
import { NbdFile } from '@/nbd/client'
import { keyOfCode } from '@/nbd/key'
import { expectAccessible } from './support/axe'
import type { Page } from './support/browser'
import { onOwnBench } from './support/own-bench'

let page: Page

onOwnBench((p) => {
  page = p
})

const LONG = 200_000
const IMAGE = 'survey office 3 May.vhdx'

describe('an image of the demo', () => {
  it('is lent from its page, given for a yes, taken back and lent no more', { timeout: LONG }, async () => {
    await page.open(`/images/${encodeURIComponent(IMAGE)}`)
    await page.click(/Lend it/)
    await page.untilFinding(/Lend survey office/)
    await expectAccessible(page, 'what is to be lent')
    await page.next(/Lend it/)
    await page.untilFinding(/1 disk is lent/)
    const code = await (await page.find('code')).getText()
    const uri = /nbds:\/\/\S+/.exec(await (await page.find('lent')).getText())![0]
    // Another bench asks for it.
    const asked = NbdFile.open(nbdAddress(uri), { key: keyOfCode(code), patienceMs: 0 })
    await page.untilFinding(/1 computer asks you/)
    await expectAccessible(page, 'somebody asks')
    await page.open('/bench')
    await page.click(/1 asks to read/)
    await page.click(/Say yes/)
    const file = await asked
    await file.read(0, new Uint8Array(1024 * 1024))
    await page.untilText(/has it; 1 MiB read/)
    await page.click(/Take it back/)
    await page.untilText(/had it; 1 MiB read/)
    await expect(file.read(0, new Uint8Array(512))).rejects.toThrow(/no longer connected/)
    await file.close()
    await page.click(/Stop lending it/)
    // What the demo's other bench lends is all that is left.
    await page.untilFinding(/1 drive can be asked for/)
  })
})
