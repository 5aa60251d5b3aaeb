import { writeFileSync } from 'node:fs'
import { Page } from '../tests/browser/support/browser'
const page = await Page.launch('http://127.0.0.1:4400')
const keep = async (n: string, full = false) => {
  if (full)
    await page.resize(
      Number(process.env.W ?? 1280),
      Number(await page.driver.executeScript('return document.documentElement.scrollHeight')),
    )
  writeFileSync(`/tmp/${n}.png`, await page.driver.takeScreenshot(), 'base64')
  if (full) await page.resize(1280, 800)
}
const theme = (t: string) => page.driver.executeScript(`document.documentElement.dataset.theme='${t}'`)
try {
  await (await import(process.argv[2])).default(page, keep, theme)
} finally {
  await page.close()
}
