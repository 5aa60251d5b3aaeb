import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

import { COMPUTER_MODELS } from '@/bench/catalogue'
import { PLATE_CHARACTERS } from '@/core/ready/plate-check'
import { diskIdentity } from '@/core/survey/identity'
import { surveyDrive } from '@/core/survey/survey'
import { capacityOf } from '@/core/things/capacity'
import { openHostImage } from '@/host/images'
import { sha256 } from '@/host/sha256'
import { database } from '@/server/database'
import { DriveRow, MoveRow, SeriesRow } from '@/server/database/models'
import { refusalCode } from '@/server/ground/testing'
import { ended } from '@/server/jobs/testing'
import { loadMove } from '@/server/moves'
import { logbook } from '@/server/moves/logbook'
import { sharedDrives } from '@/server/moves/question'
import { newSeries, seriesState, setAside, writeTogether } from '@/server/pages/series'
import { carryOn, isPreparing } from '@/server/pages/series/prepare'
import { changePace } from '@/server/stations/copy'
import { lockFit, unlockFit } from '@/server/stations/fit'
import { handOver } from '@/server/stations/handover'
import { startTrial } from '@/server/stations/proof'
import { startCopy } from '@/server/stations/ready/start'
import { finishStep } from '@/server/stations/swap'
import { driveById, placeDrive, withDrive } from '@/server/world'
import { addDrive, saveComputer } from '@/server/world/things'
import { copyEnd, copyEnds } from '../support/carry-out'
import { openDemoBench } from '../support/open-demo-bench'
import { dataFolder } from '@/server/ground/paths'

const folder = dataFolder()

const MASTER = 'survey office 3 May.vhdx'
const BLANK = { from: 'blank', kind: 'sata-ssd', model: 'Tellina T1', logicalSectorSize: 512, purpose: 'customer' }
/** Sold as so many gigabytes. */
const SIZES = [128, 128, 120, 128]
const computers: string[] = []
const drives: string[] = []
let id: string

beforeAll(async () => {
  await openDemoBench()
  await changePace('max')
  // Both bays of the dock are free for the series.
  await placeDrive('crv5-960', { kind: 'table' })
  for (const [i, gigabytes] of SIZES.entries()) {
    computers.push(
      await saveComputer({ ...COMPUTER_MODELS['brezza-t20'], id: '', name: `kiosk ${i + 1}`, mains: true } as never),
    )
    drives.push(await addDrive({ ...BLANK, serial: `TLN1-99${i}0-K${i}Z1`, sizeBytes: capacityOf(gigabytes) }))
  }
  // The second one forgets what is written to it.
  const failing = await driveById(drives[1])
  await DriveRow.update(
    { data: { ...failing, misstores: [{ firstLba: 2048, count: 64 }] } },
    { where: { id: failing.id } },
  )
})

vi.setConfig({ testTimeout: 300_000 })

afterAll(async () => {
  await (await database()).close()
})

const members = () => computers.map((computerId, i) => ({ computerId, targetId: drives[i] }))
const asked = (list = members()) => ({
  ...{ name: 'Ferry kiosks', customer: 'Harbour ferry line' },
  ...{ from: { image: MASTER }, members: list },
})
const memberNow = async (i: number) => (await seriesState(id)).members[i]
const statesNow = async () => (await seriesState(id)).members.map((m) => m.state)
const until = (states: readonly string[]) =>
  vi.waitUntil(async () => JSON.stringify(await statesNow()) === JSON.stringify(states), { timeout: 100_000 })

/** Does what hands have to do for a computer, until it asks for something else. */
async function handsOf(i: number): Promise<string> {
  for (;;) {
    const { id: move, state, step } = await memberNow(i)
    if (state !== 'hands') return state
    await finishStep(move, { step: step!.id })
  }
}

/** Starts the copy of a computer by the plate that its page asks for. */
async function write(i: number): Promise<void> {
  const { id: move, serial, seen } = await memberNow(i)
  await startCopy(move, { plate: serial.slice(-PLATE_CHARACTERS), seen })
}

/** What Ready says of drives that other moves have, too. */
const readySharing = async (move: string) => sharedDrives(await loadMove(move))

const identityOf = async (i: number) =>
  withDrive(await driveById(drives[i]), async (device) => diskIdentity(await surveyDrive(device, sha256)))

describe('a series', () => {
  it('is refused where two computers name one drive, with nothing opened', async () => {
    const before = await MoveRow.count()
    const [one, two] = members()
    expect(await refusalCode(newSeries(asked([one, { ...two, targetId: one.targetId }])))).toBe(
      'series-contradicts-itself',
    )
    expect(await refusalCode(newSeries(asked([one, { ...two, computerId: one.computerId }])))).toBe(
      'series-contradicts-itself',
    )
    // A drive that another move has is nobody else's, and then none of them is opened.
    expect(await refusalCode(newSeries(asked([one, { ...two, targetId: 'crv5-960' }])))).toBe('drive-reserved')
    expect([await MoveRow.count(), await SeriesRow.count()]).toEqual([before, 0])
  })

  it('brings as many computers to a bay as there are, and the others wait', async () => {
    id = await newSeries(asked())
    await until(['hands', 'hands', 'hands', 'waits'])
    const places = (await Promise.all([0, 1, 2].map(memberNow))).map((m) => m.says)
    expect(new Set(places).size).toBe(3)
  })

  it('writes several at once, each for its own plate', async () => {
    for (const i of [0, 1, 2]) expect(await handsOf(i)).toBe('plate')
    const [, second] = (await seriesState(id)).members
    expect(await refusalCode(startCopy(second.id, { plate: 'ZZZZ', seen: second.seen }))).toBe('plate-wrong')
    await changePace('1')
    const typed = async (i: number, plate?: string) => {
      const { id: move, serial, seen } = await memberNow(i)
      return { move, plate: plate ?? serial.slice(-PLATE_CHARACTERS), seen }
    }
    const wrong = { series: id, members: [await typed(0), await typed(1, 'ZZZZ')] }
    expect(await refusalCode(writeTogether(wrong))).toBe('plate-wrong')
    expect((await seriesState(id)).counts).toMatchObject({ runs: 0, asks: 3 })
    await writeTogether({ series: id, members: [await typed(0), await typed(1)] })
    expect((await seriesState(id)).counts).toMatchObject({ runs: 2, asks: 1, waits: 1 })
    await changePace('max')
    const { id: first } = await memberNow(0)
    await copyEnd(first, 0)
    const notes = (await logbook(first, 50)).map((n) => n.text)
    expect(notes).toContainEqual(expect.stringMatching(/^read together with others: .+ were read by them$/))
  })

  it('goes on with the others where a drive fails, and the next one gets its bay', async () => {
    const { id: move } = await memberNow(1)
    expect(await refusalCode(setAside({ series: id, move: (await memberNow(0)).id }))).toBe('series-nothing-failed')
    expect((await copyEnds(move, 0)).status).toBe('failed')
    expect(await memberNow(1)).toMatchObject({ state: 'failed', says: expect.stringMatching(/sector/) })
    await setAside({ series: id, move })
    await until(['hands', 'aside', 'plate', 'hands'])
    expect(await memberNow(1)).toMatchObject({ place: 'on the table', says: expect.stringMatching(/failed/) })
    expect((await memberNow(3)).says).toMatch(/bay 2/)
  })

  it('finishes what a cut left of it, and leaves alone what is changed by hand', async () => {
    const { id: move } = await memberNow(3)
    // As it is where the power goes between the route and the fit.
    await MoveRow.update({ fit: null }, { where: { id: move } })
    expect((await memberNow(3)).state).toBe('prepares')
    carryOn(id)
    await until(['hands', 'aside', 'plate', 'hands'])
    const wish = (await loadMove(move)).row.fit!.pairs[0]!.wish
    await unlockFit(move)
    carryOn(id)
    await vi.waitUntil(() => !isPreparing())
    expect((await memberNow(3)).state).toBe('settle')
    expect(await refusalCode(lockFit(move, { wish: { ...wish, identity: undefined } }))).toBe('fit-keeps-identity')
    await lockFit(move, { wish })
    await until(['hands', 'aside', 'plate', 'hands'])
  })

  it('says so where there is no bay for a drive at all', async () => {
    const computerId = await saveComputer({ ...COMPUTER_MODELS['brezza-t20'], id: '', name: 'kiosk 9' } as never)
    const targetId = await addDrive({
      ...BLANK,
      kind: 'blade',
      serial: 'TLN1-9990-K9Z1',
      sizeBytes: capacityOf(128),
    })
    const other = await newSeries({ ...asked([{ computerId, targetId }]), name: 'Blades' })
    await vi.waitUntil(async () => (await seriesState(other)).members[0].state === 'trouble', { timeout: 60_000 })
    expect((await seriesState(other)).members[0].says).toMatch(/in a bay/)
  })

  it('has each start from a drive of its own, smaller or not, with an identity of its own', async () => {
    await write(2)
    expect(await handsOf(3)).toBe('plate')
    await write(3)
    for (const i of [0, 2, 3]) {
      const { id: move } = await memberNow(i)
      await copyEnd(move, 0)
      expect(await handsOf(i), move).toBe('start')
      await ended(startTrial(move))
      expect(await handsOf(i), move).toBe('hand-over')
      await handOver(move, { by: 'Ilaria' })
    }
    expect(await statesNow()).toEqual(['done', 'aside', 'done', 'done'])
    const identities = await Promise.all([0, 2, 3].map(identityOf))
    const { device, close } = await openHostImage(path.join(folder, 'images', MASTER), { sectorSize: 512 })
    identities.push(diskIdentity(await surveyDrive(device, sha256)))
    await close()
    expect(new Set(identities).size).toBe(4)
    expect(identities).not.toContain(undefined)
  })

  it('is made from a drive that stays in its bay, which is nobody’s old drive afterwards', async () => {
    const made = []
    for (const i of [6, 7]) {
      made.push({
        computerId: await saveComputer({ ...COMPUTER_MODELS['brezza-t20'], id: '', name: `desk ${i}` } as never),
        targetId: await addDrive({ ...BLANK, serial: `TLN1-77${i}0-D${i}Z1`, sizeBytes: capacityOf(128) }),
      })
    }
    const own = { name: 'Desks', customer: 'Survey office', from: { driveId: 'oss1-128' }, members: made }
    expect(await refusalCode(newSeries(own))).toBe('series-source-elsewhere')
    const bay = { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 1' } as const
    const master = await driveById('oss1-128')
    await DriveRow.update({ data: { ...master, place: bay } }, { where: { id: master.id } })
    const desks = await newSeries(own)
    const firstNow = async () => (await seriesState(desks)).members[0]
    await vi.waitUntil(async () => (await firstNow()).state === 'hands', { timeout: 100_000 })
    const plans = (await Promise.all(made.map((_, i) => seriesState(desks).then((s) => s.members[i])))).map(
      (m) => m.says,
    )
    expect(plans.join()).not.toMatch(/Ostrica S1/)
    const { id: move } = await firstNow()
    expect((await readySharing(move)).join()).not.toMatch(/desk 7/)
    const handsUntil = async (state: string) => {
      for (;;) {
        const now = await firstNow()
        if (now.state !== 'hands') return expect(now.state).toBe(state)
        await finishStep(move, { step: now.step!.id })
      }
    }
    await handsUntil('plate')
    const { serial, seen } = await firstNow()
    await startCopy(move, { plate: serial.slice(-PLATE_CHARACTERS), seen })
    await copyEnd(move, 0)
    await handsUntil('start')
    await ended(startTrial(move))
    await handsUntil('hand-over')
    await handOver(move, { by: 'Ilaria' })
    const source = await driveById('oss1-128')
    expect([source.place, source.shelf]).toEqual([bay, undefined])
    const both = await Promise.all(
      ['oss1-128', made[0].targetId].map(async (of) =>
        withDrive(await driveById(of), async (device) => diskIdentity(await surveyDrive(device, sha256))),
      ),
    )
    expect(new Set(both).size).toBe(2)
  })
})
