import { type ComponentProps } from 'react'
import { describe, expect, it, vi } from 'vitest'
import { GIB, MIB } from '@/core/bytes/size'
import { USUAL_CHOICES } from '@/core/copy/choices'
import { type CopyProgress, CopyProgressSchema, type CopySummary, CopySummarySchema } from '@/core/copy/progress'
import { plate, type Shown, showStation } from '../testing'
import { CopyStation } from './copy-station'

vi.mock('next/navigation', () => ({ useRouter: () => ({ push() {}, refresh() {} }) }))

type View = ComponentProps<typeof CopyStation>['view']
type Copy = View['copy']

const progress = (changes: Partial<CopyProgress> = {}): CopyProgress => ({
  ...CopyProgressSchema.parse({
    phase: 'copy',
    copiedBytes: 120 * GIB,
    checkedBytes: 0,
    totalBytes: 202 * GIB,
    sourceOffset: 125 * GIB,
    partition: 'Harbour (C:)',
    seconds: 330,
    copySeconds: 330,
    bytesPerSecond: 391e6,
    meanBytesPerSecond: 391e6,
    secondsLeft: 780,
    samples: [],
  }),
  ...changes,
})

const summary = (changes: Partial<CopySummary> = {}): CopySummary => ({
  ...CopySummarySchema.parse({
    copiedBytes: 202 * GIB,
    writtenBytes: 8 * GIB,
    checkedBytes: 202 * GIB,
    digest: 'ab'.repeat(32),
    bufferBytes: 32 * MIB,
    copySeconds: 555,
    checkSeconds: 545,
    partitions: [
      { number: 1, title: 'EFI system', bytes: 4 * MIB, mode: 'used', skippedBytes: 96 * MIB },
      { number: 2, title: 'Reserved', bytes: 16 * MIB, mode: 'every' },
    ],
  }),
  ...changes,
})

function shown(copy: Partial<Copy> = {}, view: Partial<View> = {}): Shown {
  const whole: View = {
    copy: {
      id: 'one',
      status: 'running',
      message: null,
      progress: progress(),
      summary: null,
      choices: USUAL_CHOICES,
      resumable: false,
      verifyFailed: false,
      waitsFor: null,
      ...copy,
    },
    others: [],
    canRetry: false,
    further: [],
    lookAt: '/drives/crv5-960',
    started: '09:00',
    ended: '09:18',
    startedAt: Date.UTC(2026, 4, 4, 9),
    // It has run for 330 seconds.
    benchNow: Date.UTC(2026, 4, 4, 9, 5, 30),
    source: plate('Corvina S3 240 GB'),
    target: plate('Corvina S5 960 GB'),
    profile: Array<number>(240).fill(0.5),
    sourceBytes: 240e9,
    sourceSectorSize: 512,
    legNumber: 1,
    legs: 1,
    handsNext: true,
    leg: {
      bytes: 202 * GIB,
      timing: { copyBytesPerSecond: 410e6, checkBytesPerSecond: 540e6, requestSeconds: 0, limitedBy: 'USB 5 Gb/s' },
    },
    lines: [],
    ...view,
  }
  return showStation(<CopyStation moveId="ticket-desk" view={whole} />)
}

const lost = [{ partition: 2, sourceLba: 4096, targetLba: 4096, sectors: 3, files: ['/Shows/one.show'], tried: true }]

describe('a copy that runs', () => {
  it('says how far it is, when it will be done, and offers nothing but to pause or stop', () => {
    const { finding, next, text } = shown()
    expect(finding).toBe('120.0 GiB of 202.0 GiB copied')
    expect(next).toBeUndefined()
    // 330 s gone and 780 s left from 09:00.
    expect(text).toMatch(/Done at about 09:18, in 13 min of bench time\. It will not stop to ask you anything/)
    expect(text).toMatch(/Pause Stop copying reading back/)
    expect(text).toMatch(/Source, read only .* Target, being written/)
  })

  it('is half done when all is copied and nothing read back', () => {
    const share = (changes: Partial<CopyProgress>) =>
      Number(/aria-valuenow="(\d+)"/.exec(shown({ progress: progress(changes) }).markup)![1])
    expect(share({ copiedBytes: 202 * GIB })).toBe(50)
    expect(share({ copiedBytes: 202 * GIB, checkedBytes: 101 * GIB })).toBe(75)
    expect(share({ copiedBytes: 101 * GIB, verify: false })).toBe(50)
    expect(shown({ progress: progress({ verify: false }) }).text).not.toMatch(/copying reading back/)
  })

  it.each<[string, Partial<CopyProgress>, RegExp]>([
    ['erases first', { phase: 'erase', copiedBytes: 0 }, /^The target is being erased$/],
    ['reads back', { phase: 'check', checkedBytes: 50 * GIB }, /^50\.0 GiB of 202\.0 GiB read back and equal$/],
  ])('%s, and says so', (_what, changes, finding) => {
    expect(shown({ progress: progress(changes) }).finding).toMatch(finding)
  })

  it('says what it does around what does not read', () => {
    expect(shown({ progress: progress({ phase: 'rescue' }) }).text).toMatch(/reads around what does not/)
  })

  it('that is paused goes on where it is', () => {
    const { text } = shown({ status: 'paused' })
    expect(text).toMatch(/Paused\. 13 min of work are left; it resumes where it is/)
    expect(text).toMatch(/Resume/)
  })

  it('shows what else is written and copied at the same time', () => {
    const others = [{ moveId: 'lighting-desk', title: 'Lighting desk', words: '40 %' }]
    const { text } = shown({}, { others, further: [plate('Tellina T1 256 GB')], legs: 2 })
    expect(text).toMatch(/Copying at the same time Lighting desk 40 %/)
    expect(text).toMatch(/Written in the same reading Tellina T1 256 GB/)
    expect(text).toMatch(/Leg 1 of 2/)
  })
})

describe('a copy that has ended', () => {
  it.each<[string, Partial<CopySummary>, RegExp]>([
    ['well', {}, /^202\.0 GiB copied, and all of it reads back equal$/],
    ['without being read back', { checkedBytes: 0, digest: '' }, /^202\.0 GiB copied, and not read back$/],
    ['with lost sectors', { lost }, /^Copied, but 3 sectors could not be read, in 1 file$/],
    [
      'while its system ran, without a snapshot',
      { live: { oneMoment: false, changedBytes: MIB, files: [], keptBytes: 0 } },
      /^202\.0 GiB copied, but not of one moment$/,
    ],
  ])('%s says so first', (_how, changes, finding) => {
    const ended = shown({ status: 'done', summary: summary(changes) })
    expect(ended.finding).toMatch(finding)
    expect(ended.next).toBe('Continue to Swap')
  })

  it('claims that the source was only read, of a system that ran only what holds', () => {
    expect(shown({ status: 'done', summary: summary() }).text).toMatch(/was only read and is as it was/)
    const live = { oneMoment: true, changedBytes: MIB, files: [{ partition: 3, path: '/log.txt' }], keptBytes: MIB }
    const { text } = shown({ status: 'done', summary: summary({ live }) })
    expect(text).toMatch(/this only read; what was written on it meanwhile is its own system/)
    expect(text).toMatch(/What was written meanwhile .*\/log\.txt/)
  })

  it('names per part what was taken and what not', () => {
    const { text } = shown({ status: 'done', summary: summary() })
    expect(text).toMatch(/1 EFI system used blocks 4 MiB 96 MiB free, skipped/)
    expect(text).toMatch(/2 Reserved every sector 16 MiB(?! \d+ MiB free)/)
    expect(text).toMatch(/JSON CSV/)
  })

  it('lists what was lost, which can be read once more before the drives are moved', () => {
    const ended = (canRetry: boolean) => shown({ status: 'done', summary: summary({ lost }) }, { canRetry }).text
    expect(ended(true)).toMatch(/Read them once more Save the list/)
    expect(ended(true)).toMatch(/\/Shows\/one\.show partition 2, sector 4.096 and 2 more/)
    expect(ended(false)).not.toMatch(/Read them once more/)
    const again = shown({ status: 'running', summary: summary({ lost }) })
    expect(again.finding).toBe('What was lost is read once more')
  })

  it('leads to the next leg where no hands are needed', () => {
    const view = { handsNext: false, legs: 2, legNumber: 1 }
    expect(shown({ status: 'done', summary: summary() }, view).next).toBe('Continue to the next leg')
  })
})

describe('a copy that did not end', () => {
  it.each<[string, Partial<Copy>, RegExp, string]>([
    [
      'that was cut off goes on',
      { status: 'interrupted', resumable: true },
      /^The copy was cut off$/,
      'Resume the copy',
    ],
    ['that cannot go on starts over', { status: 'interrupted' }, /^The copy was cut off$/, 'Start the copy over'],
    ['that was stopped can go on', { status: 'stopped', resumable: true }, /^The copy was stopped$/, 'Resume the copy'],
    ['that failed starts over', { status: 'failed' }, /^The copy failed$/, 'Start the copy over'],
    [
      'onto a drive that stores wrongly wants another',
      { status: 'failed', verifyFailed: true },
      /^The new drive does not give back what was written$/,
      'Choose another target',
    ],
  ])('%s', (_what, copy, finding, next) => {
    const message = 'What happened, in a sentence.'
    const ended = shown({ message, ...copy })
    expect(ended.finding).toMatch(finding)
    expect(ended.next).toBe(next)
    expect(ended.text).toContain(message)
    expect(ended.text).toMatch(/Target, unfinished/)
    expect(ended.text).toMatch(/ is as it was|Nothing can start from the target/)
  })
})
