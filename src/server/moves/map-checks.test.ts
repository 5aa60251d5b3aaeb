import { afterAll, beforeAll, expect, it, vi } from 'vitest'

// Checks begin once `go` lets them.
const gate = vi.hoisted(() => ({ go: Promise.resolve() }))
vi.mock('../jobs/threads', async (original) => {
  const real = await original<typeof Threads>()
  const runTask = async (...task: Parameters<typeof real.runTask>) => {
    if (task[0] === 'checkDriveMaps') await gate.go
    return real.runTask(...task)
  }
  return { ...real, runTask }
})

import type * as Threads from '../jobs/threads'
import { openDrive } from '@/outside/open-drive'
import { SliceDevice } from '@/core/block/slice'
import { callFree } from '@/core/filesystem/ntfs/testing'
import { driveById, driveBytes } from '../world'
import { openDemoBench } from '../../../tests/support/open-demo-bench'
import { database } from '../database'
import { ended } from '../jobs/testing'
import { confirmIntake } from '../stations/intake'
import { logbook } from './logbook'
import { moveRow } from '.'
import { mapCheckProgress, startMapChecks } from './map-checks'
import { confirmSurvey, readDrives } from '../stations/survey'

const MOVE = 'ticket-desk'
const partitions = async () => (await moveRow(MOVE)).survey!.pairs[0].source.partitions
const maps = async () => (await partitions()).flatMap((p) => (p.volume?.depth === 'files' ? [p.volume.map] : []))

beforeAll(async () => {
  await openDemoBench()
  await ended(confirmIntake(MOVE))
})

afterAll(async () => {
  await (await database()).close()
})

it('becomes part of the survey in the background, and of the newest reading only', async () => {
  let go = () => {}
  gate.go = new Promise((resolve) => (go = resolve))
  await ended(readDrives(MOVE))
  expect(mapCheckProgress(MOVE)).toMatchObject({ files: 0 })
  expect(new Set(await maps())).toEqual(new Set([undefined]))
  const first = await startMapChecks(MOVE)
  const second = await startMapChecks(MOVE)
  await confirmSurvey(MOVE)
  go()
  await first!.ended
  await second!.ended
  expect(mapCheckProgress(MOVE)).toBeUndefined()
  expect(new Set(await maps())).toEqual(new Set(['checked']))
  // What was settled meanwhile is still so, and only the latest said what it came to.
  expect((await moveRow(MOVE)).survey).toMatchObject({ confirmed: true })
  const lines = (await logbook(MOVE, 50)).filter((line) => /checked against the files/.test(line.text))
  expect(lines).toHaveLength(1)
})

it('finds a map that calls free what a file uses', async () => {
  const system = (await partitions()).find((p) => p.role === 'system')!
  const { device, close } = await openDrive(driveBytes(await driveById('crv3-240')), { writable: true })
  await callFree(new SliceDevice(device, system.startBytes, system.sizeBytes), system.system!.loaderPath)
  await device.flush()
  await close()
  await ended(startMapChecks(MOVE))
  const now = (await partitions()).find((p) => p.role === 'system')!
  expect(now.volume?.map).toBe('missed')
  expect(now.findings.map((f) => f.code)).toContain('volume.map-misses')
})
