import { describe, expect, it } from 'vitest'
import { ACCESSORY_MODELS, COMPUTER_MODELS, DRIVE_MODELS } from '@/bench/catalogue'
import { capacityOf } from '@/core/things/capacity'
import { expectAccessible } from './support/axe'
import { By, type Page } from './support/browser'
import { onOwnBench } from './support/own-bench'
import type { Served } from './support/serve'
import { setPace } from './support/steps'

let page: Page
let served: Served

onOwnBench((p, s) => {
  page = p
  served = s
})

const LONG = 400_000
const NUMBERS = [1, 2, 3, 4, 5]
const serialOf = (n: number) => `TLN1-66${n}0-K${n}Z${n}`

/** The ferry line's kiosks beside their drives: one is smaller than the others, one forgets what it is given. */
function kiosks(): string {
  return JSON.stringify({
    format: 'imbarco bench',
    version: 1,
    name: 'Ferry kiosks',
    computers: NUMBERS.map((n) => ({ ...COMPUTER_MODELS['brezza-t20'], id: `kiosk-${n}`, name: `kiosk ${n}` })),
    accessories: [
      { ...ACCESSORY_MODELS['dock-two'], id: 'kiosk-dock', name: 'USB dock' },
      { ...ACCESSORY_MODELS.host, id: 'kiosk-host', name: 'Workshop host' },
      { ...ACCESSORY_MODELS.stick, id: 'kiosk-stick', name: 'rescue stick' },
    ],
    drives: NUMBERS.map((n) => ({
      ...DRIVE_MODELS['sata-ssd'],
      id: `kiosk-drive-${n}`,
      model: 'Tellina T1',
      serial: serialOf(n),
      sizeBytes: capacityOf(n === 3 ? 120 : 128),
      logicalSectorSize: 512,
      physicalSectorSize: 4096,
      encrypted: false,
      purpose: 'customer',
      unreadable: [],
      misstores: n === 2 ? [{ firstLba: 2048, count: 64 }] : [],
      image: null,
      place: { kind: 'table' },
      content: 'blank',
    })),
  })
}

const inRow = (n: number, css: string) => page.driver.findElement(By.css(`[data-testid="member-kiosk-${n}"] ${css}`))
const stateOf = async (n: number) =>
  page.driver.findElement(By.css(`[data-testid="member-kiosk-${n}"]`)).then((row) => row.getAttribute('data-state'))
const states = () => Promise.all(NUMBERS.map(stateOf))
const untilStates = (wanted: RegExp, patience?: number) =>
  page.until(async () => wanted.test((await states()).join(' ')), String(wanted), patience)

/** Types the end of the serial where a drive asks for it. */
async function typePlate(n: number) {
  const asked = await page.find(`asks-kiosk-${n}`)
  await asked.findElement(By.css('input')).sendKeys(serialOf(n).slice(-4))
  return asked
}

async function write(n: number): Promise<void> {
  const asked = await typePlate(n)
  await asked.findElement(By.css('button[type="submit"]')).click()
  await page.until(async () => /copies|hands|start|failed/.test((await stateOf(n))!), `kiosk ${n} is written`)
}

/** Does everything that hands have to do for a computer. */
async function handsOf(n: number): Promise<void> {
  await page.until(
    async () => {
      if ((await stateOf(n)) !== 'hands') return true
      const [done] = await page.driver.findElements(By.css(`[data-testid="asks-kiosk-${n}"] button:enabled`))
      await done?.click()
      return false
    },
    `no hands for kiosk ${n}`,
    60_000,
  )
}

describe('one image onto five computers', () => {
  it('is opened with a drive for each', async () => {
    const answer = await fetch(`${served.url}/api/benches/import`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', origin: served.url },
      body: kiosks(),
    })
    expect(await answer.json()).toMatchObject({ ok: true })
    await page.open('/series/new')
    await page.fill('What the series is called', 'Ferry kiosks')
    await page.fill('Customer', 'Harbour ferry line')
    await page.pick('Made from', 'survey office 3 May.vhdx')
    for (const n of NUMBERS) {
      if (n > 1) await page.click(/Another computer/)
      await page.pick(`Computer ${n}`, `Kiosk ${n},`)
      await page.pick(`Its drive ${n}`, `Tellina T1 ${n === 3 ? 120 : 128} GB, ${serialOf(n)}`)
    }
    await expectAccessible(page, 'a new series')
    await page.next(/Open the series/)
    await page.until(async () => /^\/series\/ferry-kiosks/.test(await page.path()), 'the series')
    await page.untilFinding(/2 computers need you/, 60_000)
    await untilStates(/^hands hands waits waits waits$/, 60_000)
    await page.untilText(/was not generalised/)
  })

  it('asks for as many drives as there are bays, and each is written by its own plate', { timeout: LONG }, async () => {
    await setPace(page, /as fast as it goes/)
    await handsOf(1)
    await handsOf(2)
    await untilStates(/^plate plate waits waits waits$/)
    await expectAccessible(page, 'a series at its plates')
    await typePlate(1)
    await typePlate(2)
    await page.click(/these 2 together/)
    await untilStates(/^hands failed waits waits waits$/, 120_000)
  })

  it('sets one aside that failed, and goes on with the others', { timeout: LONG }, async () => {
    await page.click(/Set it aside/)
    await untilStates(/^hands aside hands waits waits$/, 60_000)
    expect(await (await inRow(2, 'p:last-of-type')).getText()).toMatch(/set aside[\s\S]*failed/i)
    for (const n of [1, 3, 4, 5]) {
      await handsOf(n)
      if ((await stateOf(n)) === 'plate') {
        await write(n)
        await page.until(async () => (await stateOf(n)) === 'hands', `kiosk ${n} is copied`, 120_000)
        await handsOf(n)
      }
      expect(await stateOf(n)).toBe('start')
      await (await page.driver.findElement(By.css(`[data-testid="asks-kiosk-${n}"] button`))).click()
      await page.until(async () => /hands|hand-over/.test((await stateOf(n))!), `kiosk ${n} starts`, 60_000)
      await handsOf(n)
      expect(await stateOf(n)).toBe('hand-over')
    }
  })

  it('tells all of it on the page, in a file and on the board', { timeout: LONG }, async () => {
    for (const n of [1, 3, 4, 5]) {
      await page.open(`/moves/kiosk-${n}/handover`)
      await page.next(/Hand it over/)
      await page.untilFinding(/Handed over/)
    }
    await page.open('/series/ferry-kiosks')
    await page.untilFinding(/4 of 5 computers are done/)
    await expectAccessible(page, 'a series that is done')
    const list = await (await fetch(`${served.url}/api/series/ferry-kiosks/list`)).text()
    expect(list.trim().split('\n')).toHaveLength(6)
    expect(list).toMatch(/kiosk 2,Brezza T20,Tellina T1 128 GB,TLN1-6620-K2Z2,\d+,aside,/)
    await page.open('/')
    await page.untilText(/Ferry kiosks\s*4 of 5 done/)
  })
})
