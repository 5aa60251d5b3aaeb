import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { expect } from 'vitest'
import type { Page } from './browser'

const SOURCE = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8')

interface Violation {
  readonly id: string
  readonly impact: string | null
  readonly nodes: readonly { readonly html: string; readonly failureSummary: string }[]
}

/** Expects axe to find nothing serious on the page as it is, by day and by night. */
export async function expectAccessible(page: Page, where: string): Promise<void> {
  const before = await page.driver.executeScript<string>('return document.documentElement.dataset.theme')
  // What depends on the theme is the contrast alone.
  for (const [theme, rules] of [
    ['day', undefined],
    ['night', ['color-contrast']],
  ] as const) {
    await page.driver.executeScript(`document.documentElement.dataset.theme = '${theme}'`)
    await page.driver.executeScript(SOURCE)
    const violations = await page.driver.executeAsyncScript<Violation[]>(
      `const [runOnly, done] = arguments
       axe.run({ resultTypes: ['violations'], ...(runOnly ? { runOnly } : {}) }).then((r) => done(r.violations))`,
      rules,
    )
    const serious = violations
      .filter((v) => v.impact === 'serious' || v.impact === 'critical')
      .map(
        (v) =>
          `${where}, ${theme}: ${v.id}: ${v.nodes
            .slice(0, 3)
            .map((n) => `${n.html.slice(0, 160)} ${n.failureSummary}`)
            .join(' | ')}`,
      )
    expect(serious).toEqual([])
  }
  await page.driver.executeScript(`document.documentElement.dataset.theme = '${before}'`)
}
