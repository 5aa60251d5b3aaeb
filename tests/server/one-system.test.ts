import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

import { SliceDevice } from '@/core/block/slice'
import { readMarker } from '@/core/survey/marker'
import { surveyDrive } from '@/core/survey/survey'
import { sha256 } from '@/host/sha256'
import { database } from '@/server/database'
import { refusalCode } from '@/server/ground/testing'
import { ended } from '@/server/jobs/testing'
import { loadMove } from '@/server/moves'
import { progressOf, stepsAfterStart } from '@/server/moves/legs'
import { movePage } from '@/server/moves/page'
import { commandCopy } from '@/server/stations/copy'
import { lockFit } from '@/server/stations/fit'
import { handOver } from '@/server/stations/handover'
import { startTrial } from '@/server/stations/proof'
import { makeRepair, takeRepairBack } from '@/server/stations/proof/repairs'
import { resumeCopy } from '@/server/stations/ready/start'
import { takeRoute } from '@/server/stations/route'
import { readDrives } from '@/server/stations/survey'
import { finishStep } from '@/server/stations/swap'
import { handoverView, proofView, readyView } from '@/server/stations/testing'
import { driveById, withDrive } from '@/server/world'
import { setPace } from '@/server/world/clock'
import { switchComputer } from '@/server/world/computers'
import { openDemoBench } from '../support/open-demo-bench'
import {
  carryOn,
  copyEnd,
  copyEnds,
  copyLeg,
  handsTo,
  plansOf,
  startLeg,
  toRoute,
  untilCopied,
} from '../support/carry-out'
import { digestOfDrive } from '../support/drive-digest'

// One system of a drive that has two goes into a partition of a drive that keeps a system of its own.

const MOVE = 'grading'
const SOURCE = 'lmb1-256'
const TARGET = 'crv5-1000'
const VOLUME = 4
const INTO = 4

vi.setConfig({ testTimeout: 400_000 })

beforeAll(async () => {
  await openDemoBench()
  await setPace('max')
})
afterAll(async () => {
  await (await database()).close()
})

const surveyOf = async (id: string) => withDrive(await driveById(id), (device) => surveyDrive(device, sha256))

/** Digest of all that is stored of a drive outside of one partition. */
async function outside(id: string, number: number): Promise<string> {
  const { partitions, sizeBytes: size } = await surveyOf(id)
  const { startBytes, sizeBytes } = partitions.find((p) => p.number === number)!
  return digestOfDrive(id, [
    [0, startBytes],
    [startBytes + sizeBytes, size],
  ])
}

let before: string

describe('the second system of the editing computer', () => {
  it('sleeps until its computer has started it, and keeps its size until then', async () => {
    await toRoute(MOVE)
    const plan = (await plansOf(MOVE)).find((p) => /image@lmt4-4000/.test(p.id) && p.notYet === null)!
    await takeRoute(MOVE, { plan: plan.id })
    const wish = { rules: {}, sizes: {}, reserve: 0, into: INTO }
    expect(await refusalCode(lockFit(MOVE, { wish }))).toBe('fit-does-not-fit')
    await switchComputer('editing-computer', { do: 'start' })
    await switchComputer('editing-computer', { do: 'shut-down' })
    const { partitions } = await surveyOf(SOURCE)
    expect(partitions.find((p) => p.number === VOLUME)!.idleFiles.some((f) => f.asleep)).toBe(false)
  })

  it('goes by an image into the partition that was prepared, and all else stays byte for byte', async () => {
    await ended(readDrives(MOVE))
    await toRoute(MOVE)
    const plan = (await plansOf(MOVE)).find((p) => /image@lmt4-4000/.test(p.id) && p.notYet === null)!
    await takeRoute(MOVE, { plan: plan.id })
    const rest = { rules: {}, sizes: {}, reserve: 0 }
    expect(await refusalCode(lockFit(MOVE, { wish: rest }))).toBe('fit-does-not-fit')
    expect(await refusalCode(lockFit(MOVE, { wish: { ...rest, into: 3 } }))).toBe('fit-does-not-fit')
    await lockFit(MOVE, { wish: { ...rest, into: INTO } })
    before = await outside(TARGET, INTO)
    const source = await outside(SOURCE, 1)
    await handsTo(MOVE)
    const { items } = await readyView(await movePage(MOVE))
    expect(items.map((i) => i.id)).not.toContain('left-out')
    await copyLeg(MOVE)
    await handsTo(MOVE)
    // The second leg is stopped in the middle: all else is as it was, and nobody takes the partition for whole.
    await setPace('30')
    await startLeg(MOVE)
    await untilCopied(MOVE, 1)
    await commandCopy(MOVE, { command: 'stop' })
    expect(await copyEnds(MOVE, 1)).toMatchObject({ status: 'stopped', resumable: true })
    expect(await outside(TARGET, INTO)).toBe(before)
    const { startBytes, sizeBytes } = (await surveyOf(TARGET)).partitions.find((p) => p.number === INTO)!
    const mark = await withDrive(await driveById(TARGET), (d) => readMarker(new SliceDevice(d, startBytes, sizeBytes)))
    expect(mark?.note).toMatch(/Grading system/)
    await setPace('max')
    await resumeCopy(MOVE, { recheck: 'every' })
    const { summary } = await copyEnd(MOVE, 1)
    expect(summary!.checkedBytes).toBe(summary!.copiedBytes)
    const { trial: first } = await carryOn(MOVE)
    // It never met such a controller, and has its driver.
    expect(first.trace.links.find((l) => l.state === 'failed')).toMatchObject({
      id: 'driver',
      repairs: ['start-driver'],
    })
    await ended(makeRepair(MOVE, 'start-driver'))
    await ended(startTrial(MOVE))
    const trial = (await loadMove(MOVE)).row.proof!.trials.at(-1)!
    expect([trial.subject, trial.trace.systemPartition]).toEqual(['target', INTO])
    expect(trial.checks.filter((c) => !c.passed)).toEqual([])
    expect(trial.checks.map((c) => c.id)).toEqual(expect.arrayContaining(['others', 'other-system', 'samples']))
    expect(await outside(SOURCE, 1)).toBe(source)
    const { place } = await driveById(SOURCE)
    expect(place).toEqual({ kind: 'slot', computerId: 'editing-computer', slot: 'blade' })
    // The boot settings have one entry more, which is taken back like any repair.
    const { repairs } = await proofView(await movePage(MOVE))
    expect(repairs.map((r) => r.name)).toEqual(['system-entry', 'drive-letters', 'start-driver'])
  })

  it('leaves the drive, once its entry is taken back, as it was outside of the partition', async () => {
    for (let i = 0; i < 3; i++) await ended(takeRepairBack(MOVE))
    expect(await outside(TARGET, INTO)).toBe(before)
    await ended(startTrial(MOVE))
    const { trial, offered } = await proofView(await movePage(MOVE))
    expect([trial!.trace.starts, offered.map((o) => [o.name, o.why])]).toEqual([false, [['system-entry', null]]])
  })

  it('is handed over without a drive on the shelf', async () => {
    // Each stop of the start has one repair, up to where it passes.
    for (let stops = 0; stops < 4; stops++) {
      const [repair] = (await proofView(await movePage(MOVE))).offered
      if (!repair) break
      await ended(makeRepair(MOVE, repair.name))
      await ended(startTrial(MOVE))
    }
    const { trial } = await proofView(await movePage(MOVE))
    expect([trial!.trace.links.filter((l) => l.state === 'failed'), trial!.checks.filter((c) => !c.passed)]).toEqual([
      [],
      [],
    ])
    const move = await loadMove(MOVE)
    for (const { id } of stepsAfterStart(move, (await progressOf(move.row))!)) await finishStep(MOVE, { step: id })
    await handOver(MOVE, { by: 'Ilaria' })
    expect((await driveById(SOURCE)).shelf).toBeUndefined()
    const { sheet } = (await handoverView(await movePage(MOVE)))!
    expect(sheet.drives[0].volume).toEqual({ from: VOLUME, to: INTO })
    expect((await loadMove(MOVE)).row.handover).not.toBeNull()
  })
})
