import { expect } from 'vitest'
import { type Page } from './browser'
import type { Served } from './serve'

/** The four characters on the label of the scenario's new drive. */
export const PLATE = '4M1Q'

// The move from one station to the next, by the same buttons a technician presses.

export async function toSurvey(page: Page): Promise<void> {
  await page.open('/moves/ticket-desk/intake')
  await page.next(/Read the drives/)
  await page.untilFinding(/is used/)
}

export async function toRoute(page: Page): Promise<void> {
  await page.open('/moves/ticket-desk/survey')
  await page.next(/Route/)
  await page.untilFinding(/routes? (works?|can)/)
}

export async function toFit(page: Page): Promise<void> {
  await page.next(/Use this route/)
  await page.untilFinding(/It fits/)
}

export async function toReady(page: Page): Promise<void> {
  await page.next(/Lock this fit/)
  await page.untilFinding(/can start/)
}

/** From the survey on, once more. */
export async function fromSurveyToReady(page: Page): Promise<void> {
  await toRoute(page)
  await toFit(page)
  await toReady(page)
}

export async function settle(page: Page): Promise<void> {
  await page.click(/Start it from the stick/)
  await page.untilFinding(/^It can start/)
}

export async function typePlate(page: Page, characters: string): Promise<void> {
  const field = await page.driver.findElement({ css: 'input[aria-label*="serial"]' })
  await field.sendKeys(characters)
}

export async function setPace(page: Page, name: RegExp): Promise<void> {
  await page.click(/bench clock/)
  await page.click(name, '[role="menuitemradio"]')
}

/** Goes past what blocks, with a reason. */
export async function goPast(page: Page, reason: string): Promise<void> {
  await page.click(/Skip it, with a reason/)
  await page.driver.findElement({ css: 'textarea' }).sendKeys(reason)
  await page.click(/^Skip it$/)
  await page.untilText(new RegExp(`Skipped: ${reason}`))
}

/** The plate of the lighting desk's new drive. */
export const LIGHTING_PLATE = '9QX2'

/** Opens the list of a move whose fit is locked. */
export async function openList(page: Page, move: string): Promise<void> {
  await page.open(`/moves/${move}/ready`)
  await page.untilText(/Plate check/i)
}

/** Puts the drives where the plan has them, where it wants them elsewhere, and starts the computer from the stick. */
export async function standReady(page: Page): Promise<void> {
  if (/Show the steps/.test(await page.text())) {
    await page.click(/Show the steps/)
    await tickAllSteps(page)
    await page.untilFinding(/The drives are in their places/)
    await page.next(/Continue to Ready/)
  }
  await page.click(/Start it from the stick/)
  await page.untilText(/runs from the rescue stick/)
  if (/Continue without/.test(await page.text())) await page.click(/Continue without/)
  await page.untilFinding(/^It can start/)
}

/** From the lighting desk's list to its running copy. */
export async function startLightingDesk(page: Page): Promise<void> {
  await standReady(page)
  await typePlate(page, LIGHTING_PLATE)
  await page.next(/Erase and copy/)
}

/** From the list to a running copy. */
export async function startCopy(page: Page): Promise<void> {
  await typePlate(page, PLATE)
  await page.next(/Erase and copy/)
  await page.until(async () => (await page.path()).endsWith('/copy'), 'the copy page')
}

/** Ticks off all steps of the swap that is shown. */
export async function tickAllSteps(page: Page): Promise<void> {
  await page.untilText(/Step 1 of (\d+)/)
  const steps = Number(/Step 1 of (\d+)/.exec(await page.text())![1])
  for (let step = 2; step <= steps; step++) {
    await page.press(' ')
    await page.untilText(new RegExp(`Step ${step} of ${steps}`))
  }
  await page.press(' ')
}

/** Closes the case after a start that passed, and goes on to Handover. */
export async function closeCase(page: Page): Promise<void> {
  await page.next(/Close the case/)
  await page.untilText(/Closing, 1 of (\d+)/)
  const steps = Number(/Closing, 1 of (\d+)/.exec(await page.text())![1])
  for (let step = 2; step <= steps; step++) {
    await page.press(' ')
    await page.untilText(new RegExp(`Closing, ${step} of ${steps}`))
  }
  await page.press(' ')
  await page.untilFinding(/is whole again/)
  await page.next(/Continue to Handover/)
}

/** Puts a drive somewhere else, as hands would. */
export async function place(served: Served, drive: string, where: unknown): Promise<void> {
  const response = await fetch(`${served.url}/api/bench/drives/${drive}/place`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ place: where, meant: true }),
  })
  expect(response.status).toBe(200)
}
