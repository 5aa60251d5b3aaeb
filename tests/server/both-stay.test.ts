import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

import { surveyDrive } from '@/core/survey/survey'
import { sha256 } from '@/host/sha256'
import { database } from '@/server/database'
import { refusalCode } from '@/server/ground/testing'
import { ended } from '@/server/jobs/testing'
import { loadMove } from '@/server/moves'
import { changeMove } from '@/server/moves/change'
import { movePage } from '@/server/moves/page'
import { eraseDrive, openingsFor, shelfState } from '@/server/pages/shelf'
import { lockFit } from '@/server/stations/fit'
import { handOver } from '@/server/stations/handover'
import { startTrial } from '@/server/stations/proof'
import { makeRepair, takeRepairBack } from '@/server/stations/proof/repairs'
import { takeRoute } from '@/server/stations/route'
import { handoverView, proofView } from '@/server/stations/testing'
import { changeComputer, computerById, driveById, withDrive } from '@/server/world'
import { setPace } from '@/server/world/clock'
import { openDemoBench } from '../support/open-demo-bench'
import { copyLeg, handsTo, plansOf, toRoute } from '../support/carry-out'
import { digestOfDrive } from '../support/drive-digest'

// The old drive stays in the computer beside the new one.

const MOVE = 'ticket-desk'
const SOURCE = 'crv3-240'
const TARGET = 'crv5-960'
const COMPUTER = 'ticket-desk'

vi.setConfig({ testTimeout: 400_000 })

beforeAll(async () => {
  await openDemoBench()
  await setPace('max')
})
afterAll(async () => {
  await (await database()).close()
})

const proofNow = async () => proofView(await movePage(MOVE))
const lastTrial = async () => (await loadMove(MOVE)).row.proof!.trials.at(-1)!
const wish = { rules: {}, sizes: {}, reserve: 0 }
const identity = { of: 'all' as const, seed: '6a1f7c52-0f5e-4d57-9b5d-6d0a4c0e1b77' }

describe('a drive that gets a new one beside it', () => {
  it('keeps its slot on every way, and its copy gets identities of its own', async () => {
    const { brief } = await loadMove(MOVE)
    expect(await refusalCode(changeMove(MOVE, { ...brief, oldDrive: 'stays', targetComputerId: 'survey-new' }))).toBe(
      'move-contradicts-itself',
    )
    await changeMove(MOVE, { ...brief, oldDrive: 'stays' })
    await toRoute(MOVE)
    const plans = (await plansOf(MOVE)).filter((p) => p.notYet === null)
    expect(plans.length).toBeGreaterThan(3)
    await takeRoute(MOVE, { plan: plans[0].id })
    const { actions } = (await loadMove(MOVE)).row.route!.plan
    expect(actions.filter((a) => a.do === 'take' && a.driveId === SOURCE)).toEqual([])
    expect(await refusalCode(lockFit(MOVE, { wish }))).toBe('fit-does-not-fit')
    expect(await refusalCode(lockFit(MOVE, { wish: { ...wish, identity: { ...identity, of: 'disk' } } }))).toBe(
      'fit-does-not-fit',
    )
    await lockFit(MOVE, { wish: { ...wish, identity } })
  })

  it('is copied, and boot settings and letters of the copy name the copy', async () => {
    const source = await digestOfDrive(SOURCE)
    await handsTo(MOVE)
    await copyLeg(MOVE)
    const repairs = await vi.waitUntil(async () => (await loadMove(MOVE)).row.proof?.repairs)
    expect(repairs.map((r) => r.name)).toEqual(['point-store', 'drive-letters'])
    await handsTo(MOVE)
    expect((await driveById(SOURCE)).place).toMatchObject({ kind: 'slot', slot: 'SATA 0' })
    expect((await driveById(TARGET)).place).toMatchObject({ kind: 'slot', slot: 'SATA 1' })
    expect(await digestOfDrive(SOURCE)).toBe(source)
  })

  it('is started from first by the firmware, until that is told of the new one', async () => {
    expect((await proofNow()).offered.map((r) => r.name)).toEqual(['boot-entry'])
    await ended(startTrial(MOVE))
    expect(await lastTrial()).toMatchObject({ subject: 'source', trace: { starts: true } })
    await ended(makeRepair(MOVE, 'boot-entry'))
    const { bootEntries, bootOrder } = (await computerById(COMPUTER)).firmware
    const [first, second] = bootOrder.map((id) => bootEntries.find((e) => e.id === id)!)
    expect(first.name).toBe(`${second.name}, Corvina S5 960 GB`)
    expect(first.partitionGuid).not.toBe(second.partitionGuid)
  })

  it('lets the new one start with both in, every letter naming that', async () => {
    await ended(startTrial(MOVE))
    const trial = await lastTrial()
    expect(trial).toMatchObject({
      subject: 'target',
      trace: { starts: true, startedFrom: TARGET, systemDrive: TARGET },
    })
    expect(trial.checks.filter((c) => !c.passed)).toEqual([])
    expect(trial.checks.map((c) => c.id)).toContain('letters')
    expect((await proofNow()).offered).toEqual([])
  })

  it('is the way back by its own line of the boot menu', async () => {
    const { menu } = await proofNow()
    const old = menu.find((line) => line.here && line.detail.includes('Corvina S3 240 GB') && /^entry:/.test(line.id))!
    await ended(startTrial(MOVE, old.id))
    expect(await lastTrial()).toMatchObject({ subject: 'source', trace: { starts: true, systemDrive: SOURCE } })
    await ended(startTrial(MOVE))
    expect(await lastTrial()).toMatchObject({ subject: 'target' })
  })

  it('is not believed where the new one’s settings start the old system', async () => {
    // The firmware, the letters and the settings, in the order in which they were made.
    await ended(takeRepairBack(MOVE))
    await ended(takeRepairBack(MOVE))
    await ended(takeRepairBack(MOVE))
    await ended(makeRepair(MOVE, 'boot-entry'))
    await ended(startTrial(MOVE))
    const { trace, checks, subject } = await lastTrial()
    expect([trace.starts, trace.startedFrom, trace.systemDrive, subject]).toEqual([true, TARGET, SOURCE, 'target'])
    expect(checks.filter((c) => !c.passed).map((c) => c.id)).toEqual(['system-volume', 'letters'])
    expect(await refusalCode(handOver(MOVE, { by: 'Ada' }))).toBe('handover-before-proof')
    for (const name of ['point-store', 'drive-letters']) await ended(makeRepair(MOVE, name))
    await ended(startTrial(MOVE))
    expect((await lastTrial()).checks.filter((c) => !c.passed)).toEqual([])
  })

  it('goes with the computer, and is erased where it sits once its day has come', async () => {
    await handsTo(MOVE)
    await handOver(MOVE, { by: 'Ada' })
    const sheet = (await handoverView(await movePage(MOVE)))?.sheet
    expect(sheet).toMatchObject({ oldDriveStays: true, keptUntil: expect.stringMatching(/May 2026/) })
    const asked = { driveId: SOURCE, how: 'discard', plate: '07KD', volume: { kind: 'ntfs', label: 'Old films' } }
    const kept = (await shelfState()).drives.find((d) => d.id === SOURCE)!
    expect(kept).toMatchObject({ due: false, inside: expect.stringMatching(/SATA 0/) })
    expect(await refusalCode(openingsFor(SOURCE))).toBe('not-on-shelf')
    expect(await refusalCode(eraseDrive(asked))).toBe('erase-early')
    const early = { ...asked, reason: 'the customer asked for it' }
    expect(await refusalCode(eraseDrive({ ...early, volume: { kind: 'exfat', label: 'far too long for it' } }))).toBe(
      'no-data-volume',
    )
    expect(await refusalCode(eraseDrive({ ...early, plate: '4M1Q' }))).toBe('plate-wrong')
    await changeComputer(COMPUTER, { running: 'off' })
    expect(await refusalCode(eraseDrive(early))).toBe('erase-computer-off')
    await changeComputer(COMPUTER, { running: 'system' })
    const { firmware } = await computerById(COMPUTER)
    await changeComputer(COMPUTER, { firmware: { ...firmware, bootOrder: [...firmware.bootOrder].reverse() } })
    expect(await refusalCode(eraseDrive(early))).toBe('erase-running')
    await changeComputer(COMPUTER, { firmware })
    await ended(eraseDrive(early))
    expect(await driveById(SOURCE)).toMatchObject({
      place: { kind: 'slot', slot: 'SATA 0' },
      erased: { how: 'discard' },
    })
    expect((await driveById(SOURCE)).shelf).toBeUndefined()
    const survey = await withDrive(await driveById(SOURCE), (device) => surveyDrive(device, sha256))
    expect([...survey.findings, ...survey.partitions.flatMap((p) => p.findings)]).toEqual([])
    expect(survey.partitions).toMatchObject([{ number: 1, volume: { kind: 'ntfs', label: 'Old films' } }])
    expect((await shelfState()).drives.map((d) => d.id)).not.toContain(SOURCE)
  })
})
