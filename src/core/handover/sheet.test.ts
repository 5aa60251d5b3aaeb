import { describe, expect, it } from 'vitest'
import { GIB, MIB } from '../bytes/size'
import { type Sheet, sheetAdvice, sheetRows, SheetSchema, sheetTitle } from './sheet'
import { sheet, summary } from './testing'

type Summary = Sheet['legs'][number]['summary']

const leg = (changes: Partial<Summary>) => sheet({ legs: [{ number: 1, title: '', summary: summary(changes) }] })
const speed = (sequentialBytesPerSecond: number, randomReadsPerSecond: number) => ({
  sequentialBytesPerSecond,
  randomReadsPerSecond,
  failedReads: 0,
  reads: 1,
  over: '',
})
const row = (from: Sheet, name: string) => sheetRows(from).find(([n]) => n === name)?.[1]
const run = (files: string[], partition = 3) => ({
  partition,
  sourceLba: 2048,
  targetLba: 2048,
  sectors: 2,
  files,
  tried: true,
})

describe('the sheet', () => {
  it('is what its schema says, also after a way through JSON', () => {
    expect(SheetSchema.parse(JSON.parse(JSON.stringify(sheet())))).toEqual(sheet())
  })

  it('is headed by what was done', () => {
    const titled = (reason: string) => sheetTitle(sheet({ move: { ...sheet().move, reason } }))
    expect(titled('more room')).toBe('Ticket desk: moved for more room')
    expect(titled('another computer')).toBe('Ticket desk: moved to another computer')
    expect(titled('virtual machine')).toBe('Ticket desk: moved into a virtual machine')
  })

  it('names plates, times, bytes and the check', () => {
    const rows = sheetRows(sheet())
    expect(rows.map(([name]) => name)).toEqual([
      'Customer',
      'Computer',
      'From',
      'To',
      'Copied',
      'Took',
      'Lost',
      'Checked',
    ])
    expect(row(sheet(), 'From')).toBe('Corvina S3 240 GB, s/n CRV3-8841-07KD')
    expect(row(sheet(), 'Copied')).toBe('202.0 GiB on 4 May 2026, 09:00:08 to 09:18:28')
    expect(row(sheet(), 'Took')).toMatch(/^9 min 15 s copying at 391 MB\/s, 9 min 5 s reading back$/)
    expect(row(sheet(), 'Lost')).toBe('nothing')
    expect(row(sheet(), 'Checked')).toBe('all 202.0 GiB read back equal, BLAKE3 4cf982acfcc3')
    const unread = leg({ checkedBytes: 0, digest: '' })
    expect(row(unread, 'Took')).toMatch(/not read back$/)
    expect(row(unread, 'Checked')).toBe('nothing was read back, as chosen')
  })

  it('names lost files once each, and how many more there are', () => {
    expect(row(leg({ lost: [run(['/a.txt']), run(['/a.txt', '/b.txt'])] }), 'Lost')).toMatch(/: \/a\.txt, \/b\.txt$/)
    const many = Array.from({ length: 15 }, (_, i) => `/file ${i}`)
    expect(row(leg({ lost: [run(many)] }), 'Lost')).toMatch(/\/file 11 and 3 more$/)
    expect(row(leg({ lost: [run([])] }), 'Lost')).toMatch(/belong to no file that can be told$/)
  })

  it('has a line for each leg of several, and adds up their bytes', () => {
    const legs = [1, 2].map((number) => ({ number, title: `leg ${number}`, summary: summary({ copiedBytes: GIB }) }))
    const two = sheet({ legs })
    expect(row(two, 'Copied')).toMatch(/^2 GiB on/)
    expect(row(two, 'Leg 1')).toMatch(/^leg 1: 9 min 15 s copying/)
    expect(row(two, 'Leg 2')).toMatch(/^leg 2: /)
    expect(row(two, 'Took')).toBeUndefined()
  })

  it('tells what was left out, written besides, repaired, gone past and by whom', () => {
    const leftOut = [
      { path: '/pagefile.sys', bytes: GIB },
      { path: '/swapfile.sys', bytes: MIB },
    ]
    const further = [
      { id: 'a', name: 'Tellina T1 256 GB', why: null },
      { id: 'b', name: 'Tellina T1 512 GB', why: 'it was taken out' },
    ]
    const part = { number: 3, title: 'C:', bytes: GIB, mode: 'used' as const, skippedBytes: 0, leftOut, seconds: 0 }
    const full: Sheet = {
      ...leg({ partitions: [part, { ...part, number: 4 }], further }),
      onto: { name: 'new desk', model: 'Tramonto T9' },
      by: 'Ilaria',
      repairs: [
        { title: 'Point the boot settings at this disk', changes: ['In /Boot/BCD.'], grows: false, know: [] },
        { title: 'Take up the rest', changes: ['C: grows.'], grows: true, know: [] },
      ],
      skipped: [{ title: 'C: was not closed.', reason: 'the owner knows' }],
      speeds: [
        {
          source: 'a',
          target: 'b',
          before: speed(409e6, 1962),
          after: speed(501e6, 3248),
        },
        { source: 'c', target: 'd', after: speed(1, 1) },
      ],
    }
    expect(row(full, 'Onto')).toBe('Tramonto T9, the new desk')
    expect(row(full, 'Left out')).toBe('pagefile.sys, swapfile.sys')
    expect(sheetRows(full).filter(([n]) => n === 'Written in the same reading')).toEqual([
      ['Written in the same reading', 'Tellina T1 256 GB'],
    ])
    expect(row(full, 'Repaired')).toBe('Point the boot settings at this disk. In /Boot/BCD.')
    expect(row(full, 'Taken up')).toBe('Take up the rest. C: grows.')
    expect(row(full, 'Skipped check')).toBe('C: was not closed. the owner knows')
    // A drive whose speed was not measured before has nothing to be compared with.
    expect(sheetRows(full).filter(([n]) => n === 'Speed')).toHaveLength(1)
    expect(row(full, 'Speed')).toMatch(/409 MB\/s before, 501 MB\/s now; small reads 1.962 a second before, 3.248 now/)
    expect(row(full, 'Done by')).toBe('Ilaria')
  })
})

describe('what the customer should know', () => {
  it('is the first check, and that both drives carry one identity', () => {
    const [first, second, ...more] = sheetAdvice(sheet())
    expect(first).toMatch(/disk check/)
    expect(second).toMatch(/^The old drive is unchanged\. Do not put it into the same computer/)
    expect(more).toEqual([])
    const two = sheet({ drives: [...sheet().drives, ...sheet().drives] })
    expect(sheetAdvice(two)[1]).toMatch(/^The old drives are unchanged\. Do not put them/)
  })

  it('is where the old drive is, and until when', () => {
    expect(sheetAdvice(sheet({ keptUntil: '18 May 2026' })).at(-1)).toBe(
      'It is kept here until 18 May 2026 and can be put back until then.',
    )
  })

  it('is what was lost, what is still off, and what a repair leaves to be done', () => {
    expect(sheetAdvice(leg({ lost: [run(['/a'])] }))).toContainEqual(expect.stringMatching(/files that lost something/))
    expect(sheetAdvice(sheet({ stillOff: ['Network', 'Virus watch'] }))).toContain(
      'Turned off for the copy and not on again: Network, Virus watch.',
    )
    const repairs = [{ title: '', changes: [], grows: false, know: ['The new network card has no address yet.'] }]
    expect(sheetAdvice(sheet({ repairs }))).toContain('The new network card has no address yet.')
  })

  it('is what the start was not followed into, once, and what room waits for the system', () => {
    const link = (state: 'passed' | 'unproved', why?: string) => ({
      id: 'driver',
      title: 'Storage driver',
      state,
      found: '',
      evidence: '',
      ...(why === undefined ? {} : { why }),
    })
    const why = 'Its volume is encrypted. The first start asks for the recovery key.'
    const links = [link('passed', 'not said'), link('unproved', why), link('unproved', why), link('unproved')]
    const advice = sheetAdvice(
      sheet({ start: { time: '', links, checks: [] }, roomUnused: ['C: itself stays 475.7 GiB.'] }),
    )
    expect(advice.filter((a) => a === why)).toHaveLength(1)
    expect(advice).toContain('C: itself stays 475.7 GiB.')
    expect(advice.some((a) => a === 'not said')).toBe(false)
  })
})
