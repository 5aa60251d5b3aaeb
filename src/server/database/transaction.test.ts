import { EventEmitter, once } from 'node:events'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'

import { type BenchEvent, publish, subscribe } from '../ground/events'
import { benchState, changeComputer, computerById } from '../world'
import { openDemoBench } from '../../../tests/support/open-demo-bench'
import { LogRow } from './models'
import { inTransaction } from './transaction'
import { database } from '.'

const DESK = 'ticket-desk'

beforeAll(async () => {
  await openDemoBench()
})

afterAll(async () => {
  await (await database()).close()
})

const isOnline = async () => (await benchState()).computers.find((c) => c.id === DESK)?.online
const lines = () => LogRow.count({ where: { text: 'a line' } })
const writeLine = () => LogRow.create({ id: null, moveId: DESK, at: 0, tone: 'plain', text: 'a line' })

describe('a change of several statements', () => {
  it('that fails leaves none of them, and tells nobody', async () => {
    const told: BenchEvent[] = []
    const release = subscribe((event) => told.push(event))
    const before = await isOnline()
    const change = inTransaction(async () => {
      await changeComputer(DESK, { online: !before })
      await writeLine()
      // What is read within it is as it would be.
      expect(await isOnline()).toBe(!before)
      throw new Error('the power is gone')
    })
    await expect(change).rejects.toThrow('the power is gone')
    release()
    expect([await isOnline(), (await computerById(DESK)).online, await lines(), told]).toEqual([before, before, 0, []])
  })

  it('is seen by others when it is whole, and told then', async () => {
    const before = await isOnline()
    const [gate, inside] = [new EventEmitter(), new EventEmitter()]
    const isInside = once(inside, 'now')
    const told: BenchEvent[] = []
    const release = subscribe((event) => told.push(event))
    const change = inTransaction(async () => {
      await changeComputer(DESK, { online: !before })
      // A change within it belongs to it.
      await inTransaction(writeLine)
      const goOn = once(gate, 'now')
      inside.emit('now')
      await goOn
    })
    await isInside
    expect([await isOnline(), await lines(), told]).toEqual([before, 0, []])
    gate.emit('now')
    await change
    release()
    expect([await isOnline(), await lines(), told]).toEqual([!before, 1, [{ type: 'changed', moveId: null }]])
  })

  it('goes on telling what it began and did not wait for', async () => {
    const told: BenchEvent[] = []
    const release = subscribe((event) => told.push(event))
    let later: Promise<void> | undefined
    await inTransaction(async () => {
      later = new Promise((resolve) => setTimeout(resolve, 20)).then(() => publish({ type: 'changed', moveId: 'x' }))
    })
    await later
    release()
    expect(told).toEqual([{ type: 'changed', moveId: 'x' }])
  })
})
