import { existsSync } from 'node:fs'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

import { MIB } from '@/core/bytes/size'
import { giversFor } from '@/core/fit/givers'
import { surveyDrive } from '@/core/survey/survey'
import { sha256 } from '@/host/sha256'
import { database } from '@/server/database'
import { refusalCode } from '@/server/ground/testing'
import { ended } from '@/server/jobs/testing'
import { loadMove } from '@/server/moves'
import { movePage } from '@/server/moves/page'
import { roomFile } from '@/server/moves/repair-files'
import { lockFit } from '@/server/stations/fit'
import { giveRoomBack, makeRoom, roomIsMade, settleRooms } from '@/server/stations/fit/room'
import { takeRoute } from '@/server/stations/route'
import { fitView } from '@/server/stations/testing'
import { changeComputer, driveById, withDrive } from '@/server/world'
import { setPace } from '@/server/world/clock'
import { switchComputer } from '@/server/world/computers'
import { openDemoBench } from '../support/open-demo-bench'
import { plansOf, toRoute } from '../support/carry-out'
import { digestOfDrive } from '../support/drive-digest'

// A neighbour on a drive that is in use gives room to the system that comes.

const MOVE = 'grading'
const TARGET = 'crv5-1000'
const NEIGHBOUR = 3
const wish = { rules: {}, sizes: {}, reserve: 0 }

vi.setConfig({ testTimeout: 300_000 })

beforeAll(async () => {
  await openDemoBench()
  await setPace('max')
  await switchComputer('editing-computer', { do: 'start' })
  await switchComputer('editing-computer', { do: 'shut-down' })
  await toRoute(MOVE)
  const plan = (await plansOf(MOVE)).find((p) => /image@lmt4-4000/.test(p.id) && p.notYet === null)!
  await takeRoute(MOVE, { plan: plan.id })
})
afterAll(async () => {
  await (await database()).close()
})

const plateOf = async () => (await driveById(TARGET)).serial.replace(/\W/g, '').slice(-4)
const surveyNow = async () => withDrive(await driveById(TARGET), (device) => surveyDrive(device, sha256))
const stored = async () => (await loadMove(MOVE)).row.survey!.pairs[0]

describe('room from a neighbour', () => {
  it('is offered by what its volume has to spare', async () => {
    const { source, target } = await stored()
    const needs = source.partitions.find((p) => p.number === 4)!.sizeBytes
    const givers = giversFor(target!, needs)
    expect(givers).toMatchObject([{ number: NEIGHBOUR, missing: needs + 2 * MIB }])
    expect(giversFor(target!, 2 ** 45)).toEqual([])
    expect((await fitView(await movePage(MOVE))).roomMade).toBe(false)
  })

  it('is refused by a wrong plate, beside a system that runs, and where there is none to give back', async () => {
    const room = { neighbour: NEIGHBOUR, plate: await plateOf() }
    expect(await refusalCode(makeRoom(MOVE, { ...room, plate: '0000' }))).toBe('plate-wrong')
    expect(await refusalCode(makeRoom('ticket-desk', room))).toBe('room-not-here')
    expect(await refusalCode(giveRoomBack(MOVE))).toBe('room-not-made')
    const { place } = await driveById(TARGET)
    if (place.kind !== 'slot') throw new Error('The drive is in its computer.')
    await changeComputer(place.computerId, { running: 'system' })
    expect(await refusalCode(makeRoom(MOVE, room))).toBe('room-drive-runs')
    await changeComputer(place.computerId, { running: 'off' })
  })

  it('is made, gets the system as a new partition, and is given back byte for byte', async () => {
    const before = await digestOfDrive(TARGET)
    const was = await surveyNow()
    const { source } = await stored()
    const needs = source.partitions.find((p) => p.number === 4)!.sizeBytes
    expect(await refusalCode(lockFit(MOVE, { wish: { ...wish, into: 'free' } }))).toBe('fit-does-not-fit')
    await ended(makeRoom(MOVE, { neighbour: NEIGHBOUR, plate: await plateOf() }))
    const now = await surveyNow()
    expect((await stored()).target!.fingerprint).toBe(now.fingerprint)
    const part = (of: typeof was, number: number) => of.partitions.find((p) => p.number === number)!
    expect(part(was, NEIGHBOUR).sizeBytes - part(now, NEIGHBOUR).sizeBytes).toBeGreaterThanOrEqual(needs)
    expect(part(now, NEIGHBOUR).findings).toEqual([])
    for (const other of [1, 2, 4]) expect(part(now, other)).toEqual(part(was, other))
    expect(await refusalCode(makeRoom(MOVE, { neighbour: NEIGHBOUR, plate: await plateOf() }))).toBe('room-made')
    await lockFit(MOVE, { wish: { ...wish, into: 'free' } })
    expect((await loadMove(MOVE)).row.fit!.pairs[0]!.layout.partitions[0].number).toBe(5)
    await settleRooms()
    expect(roomIsMade(MOVE)).toBe(true)
    await ended(giveRoomBack(MOVE))
    expect([roomIsMade(MOVE), existsSync(`${roomFile(MOVE)}.kept`)]).toEqual([false, false])
    expect(await digestOfDrive(TARGET)).toBe(before)
    expect((await loadMove(MOVE)).row.fit).toBeNull()
  })
})
