import type { Worker } from 'node:worker_threads'
import type { Pool } from 'generic-pool'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

import { NotSupported } from '@/core/errors'
import { JOB_KINDS } from '@/core/job'
import { database } from '../database'
import { JobRow } from '../database/models'
import { type BenchEvent, subscribe } from '../ground/events'
import { singleton } from '../ground/singleton'
import { refusalCode, refused } from '../ground/testing'
import { takeLease } from '../leases'
import { runTask, TaskStopped } from './threads'
import { jobById, type JobOrder, listJobs, runningJobs, settleJobs, startJob, stopJob } from '.'
import { dataFolder } from '@/server/ground/paths'

const folder = dataFolder()

const thing = { keys: ['a file'], name: 'The image a' }
const order = <T>(run: JobOrder<T>['run'], more: Partial<JobOrder<T>> = {}): JobOrder<T> => ({
  ...{ kind: 'convert', title: 'a to b', purpose: 'work on images: a to b', lease: { write: [thing] } },
  ...{ leaves: 'Nothing was left behind.', stoppable: true, run },
  ...more,
})

beforeAll(() => database())
afterAll(async () => {
  await (await database()).close()
})

describe('a job', () => {
  it('has what it uses for itself, and tells its end', async () => {
    const told: BenchEvent[] = []
    const leave = subscribe((event) => told.push(event))
    let go = () => {}
    const gate = new Promise<void>((resolve) => (go = resolve))
    const { id, ended } = await startJob(order(({ progress }) => (progress(3, 9, 'half'), gate)))
    expect(await refused(startJob(order(async () => {})))).toMatch(/in use by work on images: a to b/)
    expect(await jobById(id)).toMatchObject({ state: 'running', done: 3, total: 9, about: 'half' })
    expect(runningJobs().map((job) => job.id)).toEqual([id])
    go()
    expect((await ended).state).toBe('done')
    takeLease({ purpose: 'something else', write: [thing] }).release()
    expect((await JobRow.findByPk(id))!.state).toBe('done')
    expect(told.filter((event) => event.type === 'job').map((event) => event.job.state)).toEqual([
      'running',
      'running',
      'done',
    ])
    leave()
  })

  it('is stopped where that does no harm', async () => {
    const waits = order(
      ({ signal }) => new Promise((_, reject) => signal.addEventListener('abort', () => reject(new TaskStopped()))),
    )
    const { id, ended } = await startJob(waits)
    stopJob(id)
    expect(await ended).toMatchObject({ state: 'stopped', message: 'You stopped it. Nothing was left behind.' })
    expect(await refusalCode(Promise.resolve().then(() => stopJob(id)))).toBe('job-not-running')
    let go = () => {}
    const gate = new Promise<void>((resolve) => (go = resolve))
    const erase = await startJob(order(() => gate, { stoppable: false }))
    expect(await refusalCode(Promise.resolve().then(() => stopJob(erase.id)))).toBe('job-unstoppable')
    go()
    await erase.ended
  })

  it.each([
    [new NotSupported('This is not read here.'), /^This is not read here\.$/],
    [new Error('a fault of its own'), /log has the details\. Nothing was left behind\./],
    [new Error('ENOSPC: no space left on device'), /is full.*Nothing was left behind\./],
  ])('that fails says why, and lets go of what it used: %s', async (error, words) => {
    const { ended } = await startJob(order(() => Promise.reject(error)))
    expect(await ended).toMatchObject({ state: 'failed', message: expect.stringMatching(words) })
    takeLease({ purpose: 'something else', write: [thing] }).release()
  })

  it('whose end the disk does not take is told as it is, and stored when it does', async () => {
    const update = vi.spyOn(JobRow, 'update').mockRejectedValueOnce(new Error('SQLITE_FULL'))
    const { id, ended } = await startJob(order(async () => {}))
    expect((await ended).state).toBe('done')
    expect((await JobRow.findByPk(id))!.state).toBe('running')
    expect((await jobById(id)).state).toBe('done')
    await vi.waitUntil(async () => (await JobRow.findByPk(id))!.state === 'done', { timeout: 20_000 })
    update.mockRestore()
  })

  it('that ends while its row is read is told with its end', async () => {
    let go = () => {}
    const { id, ended } = await startJob(order(() => new Promise<void>((resolve) => (go = resolve))))
    const findAll = JobRow.findAll.bind(JobRow)
    vi.spyOn(JobRow, 'findAll').mockImplementationOnce(async (...of) => {
      const rows = await findAll(...of)
      go()
      await ended
      return rows
    })
    expect((await listJobs(['convert'])).find((job) => job.id === id)).toMatchObject({ state: 'done' })
  })

  it('that the last server left running was cut off, whatever it was', async () => {
    for (const kind of JOB_KINDS) {
      const row = {
        id: `left-${kind}`,
        kind,
        title: kind,
        moveId: 'm',
        state: 'running',
        startedAt: Date.now(),
      } as const
      await JobRow.create({ ...row, endedAt: null, message: null, result: null })
    }
    await settleJobs()
    const left = (await listJobs(JOB_KINDS, 50)).filter((job) => job.id.startsWith('left-'))
    expect(new Set(left.map((job) => `${job.kind} ${job.state}`))).toEqual(
      new Set(JOB_KINDS.map((kind) => `${kind} interrupted`)),
    )
    expect(await refusalCode(jobById('none'))).toBe('job-unknown')
  })
})

describe('threads', () => {
  const threads = () =>
    singleton('threads', (): { threads: Pool<Worker> } => {
      throw new Error('There are no threads.')
    }).threads
  const missing = { kind: 'image', file: `${folder}/none.img`, within: folder } as const

  it('go on after a task that failed, and after one of them ended', async () => {
    await expect(runTask('surveySubject', missing)).rejects.toThrow(/none\.img/)
    const worker = await threads().acquire()
    await threads().release(worker)
    await worker.terminate()
    await expect(runTask('surveySubject', missing)).rejects.toThrow(/none\.img/)
  })

  it('carry out tasks of both kinds, one after the other in the same', async () => {
    for (const long of [true, false, true])
      await expect(runTask('surveySubject', missing, { long })).rejects.toThrow(/none\.img/)
    expect([threads().size, threads().available]).toEqual([1, 1])
  })

  it('begin nothing that was stopped before', async () => {
    const signal = AbortSignal.abort()
    await expect(runTask('surveySubject', missing, { signal })).rejects.toThrow(TaskStopped)
  })
})
