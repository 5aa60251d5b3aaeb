import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { expect } from 'vitest'
import type { Page } from './browser'

const SOURCE = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8')

/** By day with all rules and by night with what depends on the theme: the contrast alone. Gives a line for each finding. */
const LOOK = `
  const [where, done] = arguments
  const { dataset } = document.documentElement
  const before = dataset.theme
  const look = async (theme, options) => {
    dataset.theme = theme
    const { violations } = await axe.run({ resultTypes: ['violations'], ...options })
    return violations
      .filter(({ impact }) => impact === 'serious' || impact === 'critical')
      .map(({ id, nodes }) => where + ', ' + theme + ': ' + id + ': ' +
        nodes.slice(0, 3).map((node) => node.html.slice(0, 160) + ' ' + node.failureSummary).join(' | '))
  }
  const both = async () => [...(await look('day')), ...(await look('night', { runOnly: ['color-contrast'] }))]
  both().catch((error) => ['axe failed: ' + error]).then((found) => {
    dataset.theme = before
    done(found)
  })`

/** Expects axe to find nothing serious on the page as it is, by day and by night. */
export async function expectAccessible(page: Page, where: string): Promise<void> {
  // A page that was left took it along.
  if (!(await page.driver.executeScript('return Boolean(window.axe)'))) await page.driver.executeScript(SOURCE)
  expect(await page.driver.executeAsyncScript(LOOK, where)).toEqual([])
}
