import { rmSync } from 'node:fs'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

const folder = await vi.hoisted(async () => {
  const { mkdtempSync } = await import('node:fs')
  const { tmpdir } = await import('node:os')
  const data = mkdtempSync(`${tmpdir()}/imbarco-image-routes-`)
  process.env.IMBARCO_DATA = data
  return data
})

import { database } from '@/server/database'
import { makeBench } from '@/server/world/make'
import { setPace } from '@/server/world/clock'
import { carryOut, plansOf, toRoute } from './support/carry-out'

// Moves that go by an image, from the first reading to a start from the new drive.

vi.setConfig({ testTimeout: 400_000 })

beforeAll(async () => {
  await database()
  await makeBench()
  await setPace('max')
})
afterAll(async () => {
  await (await database()).close()
  rmSync(folder, { recursive: true, force: true })
})

describe('the survey office PC', () => {
  it('goes by an image on the transfer drive', async () => {
    await toRoute('survey-office')
    for (const p of await plansOf('survey-office')) console.log(p.notYet, '|', p.title, '|', p.id)
    const plan = (await plansOf('survey-office')).find((p) => /image@lmt4-4000/.test(p.id) && /^capture/.test(p.id))!
    expect(plan.notYet).toBeNull()
    const { trial, copies } = await carryOut('survey-office', plan.id)
    expect(copies.map((c) => c.status)).toEqual(['done', 'done'])
    expect(trial.subject).toBe('target')
  })
})

describe('the logbook server', () => {
  it('becomes a virtual machine, read at the host', async () => {
    await toRoute('logbook-server')
    for (const p of await plansOf('logbook-server')) console.log(p.notYet, '|', p.title, '|', p.id)
    const plan = (await plansOf('logbook-server')).find((p) => /Read at the host/.test(p.title))!
    expect(plan.notYet).toBeNull()
    const { trial, copies } = await carryOut('logbook-server', plan.id)
    expect(copies.map((c) => c.status)).toEqual(['done', 'done'])
    console.log(trial.trace.links.map((l) => [l.title, l.state, l.found, l.why]))
    expect(trial.subject).toBe('target')
    expect(trial.trace.starts).toBe(true)
  })
})
