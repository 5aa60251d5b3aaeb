import { describe, expect, it } from 'vitest'
import { Key, type Page } from './support/browser'
import { onOwnBench } from './support/own-bench'

let page: Page

onOwnBench((...given) => ([page] = given))

describe('the frame', () => {
  it('finds and does everything on Ctrl K', async () => {
    await page.open('/')
    await page.shortcut(Key.CONTROL, 'k')
    await page.until(async () => (await page.driver.findElements({ css: '[cmdk-input]' })).length === 1, 'the palette')
    await choose(page, 'ticket', /Ticket desk/)
    await page.until(async () => (await page.path()).startsWith('/moves/ticket-desk/'), 'the move')
    await page.untilText(/THE MOVE/)
    await page.shortcut(Key.CONTROL, 'k')
    await page.until(async () => (await page.driver.findElements({ css: '[cmdk-input]' })).length === 1, 'the palette')
    const before = await page.driver.executeScript('return document.documentElement.dataset.theme')
    await choose(page, 'day', /day and night/)
    await page.until(
      async () => (await page.driver.executeScript('return document.documentElement.dataset.theme')) !== before,
      'the other theme',
    )
    await page.driver.navigate().refresh()
    expect(await page.driver.executeScript('return document.documentElement.dataset.theme')).not.toBe(before)
  })

  it('lists its keys on ?, and steps from station to station by key', async () => {
    await page.open('/moves/ticket-desk/intake')
    await page.press('?')
    await page.untilText(/The next action, as shown on its button/)
    await page.press(Key.ESCAPE)
    await page.until(
      async () => (await page.driver.findElements({ css: '[role="dialog"]' })).length === 0,
      'the list is closed',
    )
    await page.press(']')
    await page.until(async () => (await page.path()).endsWith('/survey'), 'the next station')
    await page.press('[')
    await page.until(async () => (await page.path()).endsWith('/intake'), 'the station before')
  })

  it('puts a move off and takes it up again, renames it and gives it up', async () => {
    await page.open('/moves/editing-computer/intake')
    const ask = async (item: RegExp) => {
      await (await page.find('move-menu')).click()
      await page.click(item)
    }
    await ask(/^Put it off/)
    await page.fill('Why', 'the film is being cut')
    await page.send()
    await page.find('standing')
    expect(await (await page.find('next-action')).isEnabled()).toBe(false)
    await page.click(/Take up again/)
    await page.until(async () => (await page.find('next-action')).isEnabled(), 'the move to go on')
    await ask(/^Rename it/)
    await page.fill('Name', 'Cutting room')
    await page.send()
    await page.untilText(/Cutting room, Film society/)
    await ask(/^Give it up/)
    await page.fill('Why', 'it was sold')
    await page.send()
    await page.untilText(/Given up on/)
    await page.open('/past')
    await page.untilText(/given up: it was sold/)
    await page.open('/')
    expect(await (await page.find('moves')).getText()).not.toMatch(/Cutting room/)
  })

  it('shows the pace of the bench clock and changes it', async () => {
    await page.open('/')
    await page.click(/bench clock/)
    await page.click(/×1$/, '[role="menuitemradio"]')
    await page.until(async () => /×1$/.test(await (await page.find('pace')).getText()), 'pace ×1')
    await page.click(/bench clock/)
    await page.click(/×30/, '[role="menuitemradio"]')
    await page.until(async () => /×30/.test(await (await page.find('pace')).getText()), 'pace ×30')
  })

  it.each([
    '/',
    '/bench',
    '/moves/new',
    '/images',
    '/images/rescue%20stick.qcow2',
    '/drives/lmp7-320',
    '/moves/ticket-desk/intake',
    '/moves/ticket-desk/proof',
  ])('needs no sideways scrolling at 390 px on %s', async (path) => {
    await page.resize(390, 800)
    await page.open(path)
    const [content, room] = await page.driver.executeScript<[number, number]>(
      'return [document.documentElement.scrollWidth, window.innerWidth]',
    )
    expect(content).toBeLessThanOrEqual(room)
    await page.resize(1280, 800)
  })
})

/** Types into the palette and takes what it then offers first. */
async function choose(page: Page, words: string, wanted: RegExp): Promise<void> {
  await page.press(words)
  await page.until(async () => {
    const offered = await page.driver.findElement({ css: '[cmdk-item][data-selected="true"]' }).getText()
    return wanted.test(offered)
  }, `${wanted} offered`)
  await page.press(Key.ENTER)
}
