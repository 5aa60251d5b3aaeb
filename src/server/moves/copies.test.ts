import { afterAll, beforeAll, expect, it, vi } from 'vitest'

import { USUAL_CHOICES } from '@/core/copy/choices'
import { openDemoBench } from '../../../tests/support/open-demo-bench'
import { database } from '../database'
import { CopyRow } from '../database/models'
import { beginCopy, latestCopy, recover, saveCopyEnd } from './copies'

const MOVE = 'ticket-desk'

beforeAll(async () => {
  await openDemoBench()
  await recover()
}, 60_000)

afterAll(async () => {
  await (await database()).close()
})

it('tells the end of a copy to whoever is answered after it was stored, whenever they asked', async () => {
  const id = `${MOVE}-0-1`
  await beginCopy({ id, moveId: MOVE, leg: 0, linkKey: '', startedAt: 1, choices: USUAL_CHOICES })
  // The rows are read while it runs, and arrive after its end.
  let stored = () => {}
  const isStored = new Promise<void>((resolve) => (stored = resolve))
  const findAll = CopyRow.findAll.bind(CopyRow)
  vi.spyOn(CopyRow, 'findAll').mockImplementationOnce(async (...of) => {
    const rows = await findAll(...of)
    await isStored
    return rows
  })
  const asked = latestCopy(MOVE, 0)
  await saveCopyEnd(id, { status: 'done' })
  stored()
  expect(await asked).toMatchObject({ id, status: 'done' })
})
