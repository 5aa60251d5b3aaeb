import { serve } from './tests/browser/support/serve'
import { Page } from './tests/browser/support/browser'
import { writeFileSync } from 'node:fs'
const served = await serve()
const page = await Page.launch(served.url)
const shot = async (name: string, full = false) => { 
  if (full) { const h = await page.driver.executeScript<number>('return document.documentElement.scrollHeight'); await page.resize(1280, Math.min(h, 2600)) }
  writeFileSync(`/tmp/shot-${name}.png`, await page.driver.takeScreenshot(), 'base64'); if (full) await page.resize(1280, 800) }
await page.open('/'); await shot('board', true)
await page.open('/drives/crv3-240'); await shot('drive', true)
await page.open('/drives/crv3-240/start'); await shot('start1')
await page.open('/images/' + encodeURIComponent('kiosk, table damaged.img') + '/start'); await shot('start2')
await page.open('/moves/new?image=' + encodeURIComponent('survey office 3 May.vhdx')); await shot('system')
await page.close(); await served.close()
