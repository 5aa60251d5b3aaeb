import { describe, expect, it } from 'vitest'
import type { Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import { LIGHTING_PLATE, openList, setPace, standReady, toFit, typePlate } from './support/steps'

// A headline with a number in it says what the list below it shows.

let page: Page
onOwnBench((given) => (page = given), { 'ticket-desk': 'surveyed', 'lighting-desk': 'fitted' })

const WORDS = ['no', 'one', 'two', 'three', 'four', 'five', 'six', 'seven', 'eight', 'nine', 'ten']

/** The number that a headline has in front of these words; 0 where it does not have them. */
function numberIn(text: string, words: RegExp): number {
  const found = new RegExp(`(\\d+|${WORDS.join('|')}) (?:of (?:them|it) )?${words.source}`, 'i').exec(text)
  if (!found) return 0
  const word = WORDS.indexOf(found[1].toLowerCase())
  return word >= 0 ? word : Number(found[1])
}

/** How many elements of a selector show a text like this. */
async function shown(css: string, like = /./): Promise<number> {
  const script = `return [...document.querySelectorAll(arguments[0])]
    .filter((e) => e.checkVisibility() && new RegExp(arguments[1], arguments[2]).test(e.innerText)).length`
  return page.driver.executeScript<number>(script, css, like.source, like.flags)
}

const countOf = (css: string) =>
  page.driver.executeScript<number>('return document.querySelectorAll(arguments[0]).length', css)

/** The sentence below the headline. */
const reason = () =>
  page.driver.executeScript<string>(
    `return document.querySelector('[data-testid="finding"]').nextElementSibling?.innerText ?? ''`,
  )

describe('the headline', () => {
  it('of the board counts the moves that need someone', async () => {
    await page.open('/')
    const finding = await page.finding()
    expect(numberIn(finding, /moves? needs? you/)).toBe(await shown('[data-testid="moves"] > li', /Needs you/))
    expect(numberIn(finding, /moves? needs? you/)).toBe(8)
  })

  it('of the bench counts the drives that fail, or all of them and those that are connected', async () => {
    await page.open('/bench')
    expect(numberIn(await page.finding(), /drives? (?:is|are) failing/)).toBe(
      await shown('[data-testid^="drive-"]', /failing/i),
    )
    await (await page.find('bench-menu')).click()
    await page.click(/Make another bench/)
    await page.fill('Its name', 'Counting')
    await page.send()
    await page.untilText(/This bench is empty/)
    expect(numberIn(await page.finding(), /drives? on this bench/)).toBe(await shown('[data-testid^="drive-"]'))
    await (await page.find('bench-menu')).click()
    await page.click(/Molo Sette/, '[role="menuitemradio"], [role="menuitem"]')
    await page.untilText(/Demo: Molo Sette/)
  })

  it('of the images counts them, and those that are damaged', async () => {
    await page.open('/images')
    const finding = await page.finding()
    const rows = '[data-testid="images"] tbody tr'
    expect(numberIn(finding, /images?/)).toBe(await shown(rows))
    expect(numberIn(finding, /damaged|of them damaged/)).toBe(await shown(rows, /damaged/))
  })

  it('of the shelf counts what may be erased', async () => {
    await page.open('/shelf')
    const count = await shown('[data-testid="shelf"] > li', /may be erased/)
    expect(count).toBeGreaterThan(0)
    expect(numberIn(await page.finding(), /drives? may be erased/)).toBe(count)
  })

  it.each(['/images/kiosk,%20table%20damaged.img', '/drives/lmp7-320'])(
    'of what is inside %s counts what is damaged, or the partitions',
    async (path) => {
      await page.open(path)
      const finding = await page.finding()
      const damaged = await countOf('li svg[aria-label="Damage"]')
      expect(numberIn(finding, /things? (?:is|are) damaged/)).toBe(damaged)
      if (/partitions/.test(finding))
        expect(numberIn(finding, /partitions/)).toBe(await shown('[data-testid="partitions"] tbody tr'))
    },
  )

  it('of Route counts the routes that can be carried out, and says of how many what they prove', async () => {
    await page.open('/moves/ticket-desk/route')
    await page.untilFinding(/routes? (works?|can)/)
    const finding = await page.finding()
    const groups = '[data-testid="plans"] > li'
    const possible = (await shown(groups)) - (await shown(groups, /planned only/i))
    expect(numberIn(finding, /routes? works?/)).toBe(possible)
  })

  it('of Ready counts what is left, and its sentence what is settled', async () => {
    await toFit(page)
    await page.next(/Lock this fit/)
    await page.untilText(/Plate check/i)
    const items = '[data-testid="ready-items"] > li'
    const counted = async () => {
      const [finding, words] = [await page.finding(), await reason()]
      const all = await shown(items)
      const [, settled, of] = /(\d+) of (\d+) are settled/.exec(words)!
      expect(Number(of)).toBe(all)
      expect(numberIn(finding, /items? left/)).toBe(all - Number(settled))
      const marks = ['Settled', 'Skipped'].map((label) => `${items} [aria-label="${label}"]`)
      expect(await countOf(marks.join())).toBe(Number(settled))
    }
    await counted()
    await openList(page, 'lighting-desk')
    await counted()
    await standReady(page)
    await counted()
  })

  it('of a copy counts the sectors that are lost, as its list does', async () => {
    await setPace(page, /as fast as it goes/)
    await page.open('/moves/lighting-desk/ready')
    await typePlate(page, LIGHTING_PLATE)
    await page.next(/Erase and copy/)
    await page.untilFinding(/Copied, but|reads back equal/, 120_000)
    const lost = /(\d+) sectors/.exec(await page.finding())
    const runs = await page.driver.executeScript<string[]>(
      `return [...document.querySelectorAll('[data-testid="lost"] li')].map((e) => e.innerText)`,
    )
    const listed = runs.reduce((sum, run) => sum + 1 + Number(/and (\d+) more/.exec(run)?.[1] ?? 0), 0)
    expect(Number(lost![1])).toBe(listed)
    expect(listed).toBe(41)
  })
})
