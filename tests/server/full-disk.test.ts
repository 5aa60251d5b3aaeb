import { closeSync, mkdirSync, openSync, rmSync, writeSync } from 'node:fs'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

// The data folder is a small file system of its own, so that it can be filled.
const data = await vi.hoisted(async () => {
  const { spawnSync } = await import('node:child_process')
  const { mkdtempSync } = await import('node:fs')
  const { tmpdir } = await import('node:os')
  const folder = mkdtempSync(`${tmpdir()}/imbarco-full-`)
  const isMounted = spawnSync('mount', ['-t', 'tmpfs', '-o', 'size=900m', 'tmpfs', folder]).status === 0
  process.env.IMBARCO_DATA = `${folder}/data`
  return { folder, isMounted }
})

import { spawnSync } from 'node:child_process'
import { database } from '@/server/database'
import { latestCopy, running } from '@/server/moves/copies'
import { moveRow } from '@/server/moves'
import { movePage } from '@/server/moves/page'
import { startImageJob } from '@/server/pages/images/jobs'
import { jobById } from '@/server/jobs'
import { changePace, commandCopy } from '@/server/stations/copy'
import { lockFit } from '@/server/stations/fit'
import { confirmIntake } from '@/server/stations/intake'
import { readyAction } from '@/server/stations/ready'
import { resumeCopy, startCopy } from '@/server/stations/ready/start'
import { takeRoute } from '@/server/stations/route'
import { confirmSurvey, readDrives } from '@/server/stations/survey'
import { readyView, routeView } from '@/server/stations/testing'
import { openDemoBench } from '../support/open-demo-bench'
import { refusalCode } from '@/server/ground/testing'
import { ended } from '@/server/jobs/testing'

const MOVE = 'ticket-desk'
const filler = () => path.join(data.folder, 'filler')

/** Takes all room that is left, also while others take some. */
function fill(): void {
  const file = openSync(filler(), 'a')
  try {
    for (const piece = new Uint8Array(1024 * 1024); ;) writeSync(file, piece)
  } catch {
    // There is none left.
  } finally {
    closeSync(file)
  }
}
const makeRoom = () => rmSync(filler(), { force: true })

async function until<T>(look: () => Promise<T | undefined>): Promise<T> {
  return vi.waitUntil(look, { timeout: 100_000, interval: 30 }) as Promise<T>
}

const status = async () => (await latestCopy(MOVE))?.status

beforeAll(async () => {
  if (!data.isMounted) return
  mkdirSync(process.env.IMBARCO_DATA!)
  await openDemoBench()
  await ended(confirmIntake(MOVE))
  await ended(readDrives(MOVE))
  await confirmSurvey(MOVE)
  const [plan] = (await routeView(await movePage(MOVE))).plans
  await takeRoute(MOVE, { plan: plan.id })
  await lockFit(MOVE, { wish: { rules: { '3': 'fill' }, sizes: {}, reserve: 0 } })
  await readyAction(MOVE, { action: 'start-stick' })
  await readyAction(MOVE, { action: 'choose', choices: { mapsUnchecked: true } })
  await changePace('max')
})

afterAll(async () => {
  if (data.isMounted) {
    await (await database()).close()
    spawnSync('umount', ['-l', data.folder])
  }
  rmSync(data.folder, { recursive: true, force: true })
})

describe.skipIf(!data.isMounted)('a disk of the host that fills', () => {
  it('ends a copy with what it means, which is resumed when there is room', async () => {
    const { seen } = await readyView(await movePage(MOVE))
    await startCopy(MOVE, { plate: '4M1Q', seen })
    await until(async () => ((await latestCopy(MOVE))?.progress?.copiedBytes ?? 0) > 0 || undefined)
    fill()
    await until(async () => ((await status()) !== 'running' ? true : undefined))
    expect(running().has(MOVE)).toBe(false)
    const copy = (await latestCopy(MOVE))!
    expect([copy.status, copy.resumable]).toEqual(['interrupted', true])
    expect(copy.message).toMatch(/full/)
    expect(await refusalCode(commandCopy(MOVE, { command: 'stop' }))).toBe('copy-not-running')
    makeRoom()
    await resumeCopy(MOVE)
    await until(async () => ((await status()) !== 'running' ? true : undefined))
    expect(await status()).toBe('done')
    expect((await moveRow(MOVE)).fit).not.toBeNull()
  })

  it('ends a capture, and leaves no part of a file', async () => {
    const { id, ended: end } = await startImageJob({
      kind: 'capture',
      driveId: 'crv3-240',
      output: 'full.img',
      to: 'raw',
      usedOnly: false,
    })
    fill()
    const view = await end
    expect([view.state, view.message]).toEqual(['failed', expect.stringMatching(/full/)])
    makeRoom()
    // What the disk did not take at once is stored when it does.
    await until(async () => ((await jobById(id)).state === 'failed' ? true : undefined))
    const images = spawnSync('ls', ['-A', path.join(process.env.IMBARCO_DATA!, 'images')], { encoding: 'utf8' })
    expect(images.stdout).not.toMatch(/full\.img|partial/)
  })
})
