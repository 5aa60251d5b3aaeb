import { appendFileSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeEach, expect, it, vi } from 'vitest'

const runTask = vi.hoisted(() => vi.fn(async (..._: unknown[]): Promise<unknown> => []))
vi.mock('../jobs/threads', () => ({ runTask }))

import type { DriveSurvey } from '@/core/survey/types'
import type { DriveBytes } from '@/outside/open-drive'
import { keptReading } from './kept-readings'

const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-kept-'))
afterAll(() => rmSync(folder, { recursive: true }))
let file: string
let drive: DriveBytes
const survey = { fingerprint: 'one' } as DriveSurvey
const read = (about: unknown = 'one', beside: readonly string[] = []) =>
  keptReading('readAddresses', { drive, survey }, { about, beside })

beforeEach(() => {
  runTask.mockClear()
  file = path.join(mkdtempSync(path.join(folder, 'of-')), 'drive.img')
  writeFileSync(file, 'as it was')
  drive = { by: 'file', file, logicalSectorSize: 512, physicalSectorSize: 512, unreadable: [] }
})

it('reads a drive once for as long as it stays the same, and for each thing that is asked', async () => {
  await Promise.all([read(), read(), read()])
  await read()
  expect(runTask).toHaveBeenCalledTimes(1)
  await read('another')
  expect(runTask).toHaveBeenCalledTimes(2)
  appendFileSync(file, ', and more')
  await read()
  expect(runTask).toHaveBeenCalledTimes(3)
})

it('reads it again when something beside it has changed, came or went', async () => {
  const beside = `${file}.beside`
  for (const change of [() => {}, () => writeFileSync(beside, 'a'), () => rmSync(beside)]) {
    change()
    await read('one', [beside])
  }
  // Gone again it is as it was at first.
  expect(runTask).toHaveBeenCalledTimes(2)
})

it('keeps nothing of a reading that failed', async () => {
  runTask.mockRejectedValueOnce(new Error('it does not read'))
  await expect(read()).rejects.toThrow('it does not read')
  expect(await read()).toEqual([])
  rmSync(file)
  await expect(read()).rejects.toThrow(/ENOENT/)
})
