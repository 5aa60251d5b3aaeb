import { CopyChoicesChangeSchema } from './choices'
import { beforeAll, describe, expect, it, vi } from 'vitest'
import { type BlockDevice, DeviceGone, readBytes } from '../block/device'
import { FaultyDevice } from '../block/faulty'
import { MemoryDevice } from '../block/memory'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { NotSupported } from '../errors'
import { MIB } from '../bytes/size'
import { openFileSystem } from '../filesystem'
import { defaultWish, solveFit } from '../fit/solve'
import type { Layout } from '../fit/types'
import { surveyDrive } from '../survey/survey'
import { collect, pattern, sameBytes } from '../testing'
import { blake3, makeSystemDisk, sha256 } from '../testing-disk'
import { CheckFailed } from './check'
import { Heat, TOO_WARM } from './heat'
import { readLostFile } from './lost-file'
import { type CopyPlan, planCopy } from './plan'
import { CopySummarySchema } from './progress'
import { retryLost } from './retry'
import { type CopyOptions, runCopy } from './run'
import { summaryCsv } from './summary-files'

const SIZE = 320 * MIB
const page = pattern(2 * MIB, 77)
const notes = pattern(200_000, 5)
let source: MemoryDevice
let same: Layout

const options = (changes: Partial<CopyOptions> = {}): CopyOptions => ({
  digest: blake3,
  note: 'x',
  onStep: async () => {},
  ...changes,
})

async function fileOn(device: BlockDevice, layout: Layout, path: string): Promise<Uint8Array> {
  const { firstLba, lastLba } = layout.partitions.find((p) => p.role === 'system')!
  const volume = await openFileSystem(new SliceDevice(device, firstLba * 512, (lastLba - firstLba + 1) * 512))
  return volume!.readFile(path)
}

beforeAll(async () => {
  source = await makeSystemDisk({
    sizeBytes: SIZE,
    systemFiles: [
      { path: '/pagefile.sys', content: page },
      { path: '/notes.txt', content: notes },
    ],
  })
  const survey = await surveyDrive(source, sha256)
  const keep = Object.fromEntries(survey.partitions.map((p) => [p.number, 'keep' as const]))
  const fit = solveFit(survey, { sizeBytes: SIZE, logicalSectorSize: 512 }, { ...defaultWish(survey), rules: keep })
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  same = fit.layout
})

describe('a change of some choices', () => {
  it('leaves the others as they were', () => {
    expect(CopyChoicesChangeSchema.parse({ tries: 5 })).toEqual({ tries: 5 })
    expect(CopyChoicesChangeSchema.parse({ unknown: 1 })).toEqual({})
    expect(() => CopyChoicesChangeSchema.parse({ tries: 0 })).toThrow()
  })
})

describe('what is copied', () => {
  it('leaves out page files on request: their length stays, they read as zeros, all else is there', async () => {
    const target = new MemoryDevice(SIZE)
    await target.write(100 * MIB, pattern(MIB, 3))
    const plan = await planCopy(readOnly(source), same, { skipPageFiles: true })
    const outcome = await runCopy(plan, target, options())
    const left = plan.partitions.flatMap((p) => p.leftOut)
    expect(left).toEqual([{ path: '/pagefile.sys', bytes: page.length }])
    const now = await fileOn(target, same, '/pagefile.sys')
    expect(now.length).toBe(page.length)
    expect(now.every((b) => b === 0)).toBe(true)
    expect(sameBytes(await fileOn(target, same, '/notes.txt'), notes)).toBe(true)
    expect((await surveyDrive(target, sha256)).partitions.flatMap((p) => p.findings)).toEqual([])
    const whole = await runCopy(await planCopy(readOnly(source), same), new MemoryDevice(SIZE), options())
    expect(whole.writtenBytes - outcome.writtenBytes).toBeGreaterThanOrEqual(page.length - MIB)
  })

  it('leaves nothing out of a system that sleeps, which finds in those files what it had open', async () => {
    const asleep = await makeSystemDisk({
      sizeBytes: SIZE,
      systemFiles: [
        { path: '/pagefile.sys', content: page },
        { path: '/hiberfil.sys', content: new TextEncoder().encode('HIBR and what was open') },
      ],
    })
    const plan = await planCopy(readOnly(asleep), same, { skipPageFiles: true })
    expect(plan.partitions.flatMap((p) => p.leftOut)).toEqual([])
    const target = new MemoryDevice(SIZE)
    await runCopy(plan, target, options())
    expect(sameBytes(await fileOn(target, same, '/pagefile.sys'), page)).toBe(true)
    expect(new TextDecoder().decode(await fileOn(target, same, '/hiberfil.sys'))).toBe('HIBR and what was open')
  })

  it.each([
    ['cannot forget', undefined],
    ['does not forget although it said so', vi.fn(() => Promise.reject(new NotSupported('It does not forget.')))],
  ])('writes zeros over what a page file would have been on a drive that %s', async (_, discard) => {
    const inner = new MemoryDevice(SIZE)
    for (let at = 0; at < SIZE; at += MIB) await inner.write(at, pattern(65536, at / MIB))
    const { read, write, flush } = inner
    const old: BlockDevice = {
      size: SIZE,
      logicalSectorSize: 512,
      physicalSectorSize: 512,
      read: read.bind(inner),
      write: write.bind(inner),
      flush: flush.bind(inner),
      ...(discard ? { discard } : {}),
    }
    await runCopy(await planCopy(readOnly(source), same, { skipPageFiles: true }), old, options())
    if (discard) expect(discard).toHaveBeenCalled()
    expect((await fileOn(old, same, '/pagefile.sys')).every((b) => b === 0)).toBe(true)
    expect(sameBytes(await fileOn(old, same, '/notes.txt'), notes)).toBe(true)
  })

  it('takes every sector, free ones and gaps too, where all keep their places', async () => {
    const stray = pattern(4096, 8)
    const marked = await makeSystemDisk({ sizeBytes: SIZE, systemFiles: [{ path: '/notes.txt', content: notes }] })
    const { firstLba, lastLba } = same.partitions.find((p) => p.role === 'system')!
    const free = Math.floor((firstLba + lastLba) / 2 / 8) * 8 * 512
    await marked.write(free, stray)
    const gap = same.gaps.find((g) => (g.lastLba - g.firstLba + 1) * 512 >= 4096)
    if (gap) await marked.write(gap.firstLba * 512, stray)
    const every = new MemoryDevice(SIZE)
    const plan = await planCopy(readOnly(marked), same, { everySector: true })
    await runCopy(plan, every, options())
    expect(sameBytes(await readBytes(every, free, 4096), stray)).toBe(true)
    if (gap) expect(sameBytes(await readBytes(every, gap.firstLba * 512, 4096), stray)).toBe(true)
    expect(plan.partitions.every((p) => p.mode === 'every' && p.skippedBytes === 0)).toBe(true)
    const used = new MemoryDevice(SIZE)
    const system = same.partitions.find((p) => p.role === 'system')!.number
    await runCopy(await planCopy(readOnly(marked), same), used, options())
    expect((await readBytes(used, free, 4096)).every((b) => b === 0)).toBe(true)
    const one = await planCopy(readOnly(marked), same, { everyOf: [system] })
    expect(one.partitions.filter((p) => p.number !== system).some((p) => p.mode === 'used')).toBe(true)
    const byVolume = new MemoryDevice(SIZE)
    await runCopy(one, byVolume, options())
    expect(sameBytes(await readBytes(byVolume, free, 4096), stray)).toBe(true)
  })

  it('takes no more than the source has where a volume grows, and the grown volume is whole', async () => {
    const large = solveFit(await surveyDrive(source, sha256), { sizeBytes: 2 * SIZE, logicalSectorSize: 512 })
    if (!large.fits) throw new Error(large.obstacles[0].sentence)
    const grown = large.layout.partitions.find((p) => p.lastLba - p.firstLba > p.sourceLastLba - p.sourceFirstLba)!
    const plan = await planCopy(readOnly(source), large.layout, { everyOf: [grown.sourceNumber] })
    const part = plan.partitions.find((p) => p.number === grown.number)!
    const had = (grown.sourceLastLba - grown.sourceFirstLba + 1) * 512
    // What growing makes of it lies at its new end: a copy of its boot sector, no more than a few records.
    expect(part.bytes).toBeGreaterThanOrEqual(had)
    expect(part.bytes - had).toBeLessThan(MIB)
    const target = new MemoryDevice(2 * SIZE)
    await runCopy(plan, target, options())
    expect(sameBytes(await fileOn(target, large.layout, '/notes.txt'), notes)).toBe(true)
    const after = await surveyDrive(target, sha256)
    const volume = after.partitions.find((p) => p.number === grown.number)!
    expect([volume.volume?.state, volume.findings.filter((f) => f.severity === 'damage')]).toEqual(['clean', []])
    expect(volume.volume!.totalBytes).toBeGreaterThan(had)
  })

  it('is not read back when that was chosen, and says nothing of equality', async () => {
    const target = new MemoryDevice(SIZE)
    const phases = new Set<string>()
    const outcome = await runCopy(
      await planCopy(readOnly(source), same),
      target,
      options({ verify: false, onStep: async ({ phase }) => void phases.add(phase) }),
    )
    expect([outcome.checkedBytes, outcome.digest, phases.has('check')]).toEqual([0, '', false])
    expect(sameBytes(await fileOn(target, same, '/notes.txt'), notes)).toBe(true)
  })
})

/** A target whose writes to one place come out wrong so many times. */
function weakTarget(target: MemoryDevice, at: number, times: number): BlockDevice {
  let left = times
  return {
    size: target.size,
    logicalSectorSize: 512,
    physicalSectorSize: 512,
    read: (offset, into) => target.read(offset, into),
    write: async (offset, from) => {
      const own = from.slice()
      if (offset <= at && at < offset + own.length && left-- > 0) own[at - offset] ^= 0xff
      await target.write(offset, own)
    },
    flush: () => target.flush(),
    discard: (offset, length) => target.discard(offset, length),
    mapped: (offset, length) => target.mapped(offset, length),
  }
}

async function someByte(plan: CopyPlan): Promise<number> {
  const pieces = (await collect(plan.pieces())).filter((p) => !p.zero && p.length > 4096)
  return pieces[Math.floor(pieces.length / 2)].offset + 1000
}

describe('what reads back differently', () => {
  it('is written again once, and the copy is equal then', async () => {
    const plan = await planCopy(readOnly(source), same)
    const target = new MemoryDevice(SIZE)
    const told: number[] = []
    const weak = weakTarget(target, await someByte(plan), 1)
    const outcome = await runCopy(plan, weak, options({ onRewrite: (n) => told.push(n) }))
    expect([outcome.rewritten, told]).toEqual([1, [1]])
    const right = new MemoryDevice(SIZE)
    expect((await runCopy(plan, right, options())).digest).toBe(outcome.digest)
  })

  it('fails with its place when it differs again', async () => {
    const plan = await planCopy(readOnly(source), same)
    const at = await someByte(plan)
    const failed = await runCopy(plan, weakTarget(new MemoryDevice(SIZE), at, 2), options()).catch((e: unknown) => e)
    expect(failed).toBeInstanceOf(CheckFailed)
    expect((failed as CheckFailed).places.map((p) => p.offset)).toEqual([Math.floor(at / 512) * 512])
  })
})

describe('several targets in one reading', () => {
  it('all become the same, and the source is read once', async () => {
    let reads = 0
    const counting: BlockDevice = {
      ...readOnly(source),
      size: SIZE,
      logicalSectorSize: 512,
      physicalSectorSize: 512,
      read: (offset, into) => (reads++, source.read(offset, into)),
      mapped: (offset, length) => source.mapped(offset, length),
    }
    const plan = await planCopy(counting, same)
    reads = 0
    await runCopy(plan, new MemoryDevice(SIZE), options())
    const once = reads
    reads = 0
    const targets = [0, 1, 2].map(() => new MemoryDevice(SIZE))
    await runCopy(plan, targets, options())
    expect(reads).toBe(once)
    for (const target of targets) expect(sameBytes(await fileOn(target, same, '/notes.txt'), notes)).toBe(true)
  })

  it('goes on with the others when one is pulled out, and says which', async () => {
    const plan = await planCopy(readOnly(source), same)
    const [good, bad] = [new MemoryDevice(SIZE), new MemoryDevice(SIZE)]
    let writes = 0
    const leaving: BlockDevice = {
      ...weakTarget(bad, -1, 0),
      write: async (offset, from) => {
        if (++writes > 3) throw new DeviceGone('The second one')
        await bad.write(offset, from)
      },
    }
    const told: number[] = []
    const outcome = await runCopy(plan, [good, leaving], options({ onLetGo: (n) => told.push(n) }))
    expect(told).toEqual([1])
    expect(outcome.letGo.get(1)).toMatch(/no longer connected/)
    expect(sameBytes(await fileOn(good, same, '/notes.txt'), notes)).toBe(true)
    expect((await surveyDrive(bad, sha256)).scheme).toBe('unfinished')
  })

  it('are refused unless they are of one size, nothing written', async () => {
    const [one, other] = [new MemoryDevice(SIZE), new MemoryDevice(2 * SIZE)]
    await expect(runCopy(await planCopy(readOnly(source), same), [one, other], options())).rejects.toThrow(
      /all of one size/,
    )
    expect(await one.mapped(0, SIZE)).toEqual([])
  })
})

describe('a failing source', () => {
  const lostIn = async (plan: CopyPlan) => {
    const big = (await collect(plan.pieces())).find((p) => !p.zero && p.length > MIB)!
    return big.sourceOffset / 512 + 300
  }

  it('is given up where the limit says, and what was not tried is told apart', async () => {
    const bad = await lostIn(await planCopy(readOnly(source), same))
    const faulty = new FaultyDevice(source, [{ firstLba: bad, count: 40 }])
    let asked = 0
    const outcome = await runCopy(
      await planCopy(readOnly(faulty), same),
      new MemoryDevice(SIZE),
      options({ rescue: { tries: 1, goOn: () => ++asked < 20 } }),
    )
    const untried = outcome.lost.filter((l) => !l.tried)
    expect(untried.length).toBeGreaterThan(0)
    const covered = outcome.lost.reduce((sum, l) => sum + l.sectors, 0)
    expect(covered).toBeGreaterThanOrEqual(40)
  })

  it('whose lost sectors read later is mended by another pass over those only', async () => {
    const bad = await lostIn(await planCopy(readOnly(source), same))
    const faulty = new FaultyDevice(source, [{ firstLba: bad, count: 5 }])
    const target = new MemoryDevice(SIZE)
    const { lost } = await runCopy(await planCopy(readOnly(faulty), same), target, options())
    expect(lost.reduce((sum, l) => sum + l.sectors, 0)).toBe(5)
    const writes: number[] = []
    const watched: BlockDevice = {
      ...weakTarget(target, -1, 0),
      write: async (offset, from) => {
        writes.push(from.length)
        await target.write(offset, from)
      },
    }
    // Two of the five still do not read.
    const better = new FaultyDevice(source, [{ firstLba: bad + 1, count: 2 }])
    const first = await retryLost(await planCopy(readOnly(better), same), watched, lost)
    expect(first.wonBytes).toBe(3 * 512)
    expect(first.lost.reduce((sum, l) => sum + l.sectors, 0)).toBe(2)
    const second = await retryLost(await planCopy(readOnly(source), same), watched, first.lost)
    expect([second.wonBytes, second.lost]).toEqual([1024, []])
    expect(writes.every((length) => length <= 5 * 512)).toBe(true)
    const right = new MemoryDevice(SIZE)
    await runCopy(await planCopy(readOnly(source), same), right, options())
    for (const { offset, length } of await right.mapped(0, SIZE)) {
      expect(sameBytes(await readBytes(target, offset, length), await readBytes(right, offset, length))).toBe(true)
    }
  })

  it('that dies altogether ends the copy with the mark on the target', async () => {
    const dead: BlockDevice = {
      ...readOnly(source),
      size: SIZE,
      logicalSectorSize: 512,
      physicalSectorSize: 512,
      read: async (offset, into) => {
        if (offset > 150 * MIB) throw new DeviceGone('The old drive')
        await source.read(offset, into)
      },
    }
    const plan = await planCopy(readOnly(source), same)
    const target = new MemoryDevice(SIZE)
    const through = { ...plan, expected: { ...dead, mapped: plan.expected.mapped!.bind(plan.expected) } }
    await expect(runCopy(through, target, options())).rejects.toBeInstanceOf(DeviceGone)
    expect((await surveyDrive(target, sha256)).scheme).toBe('unfinished')
  })
})

describe('the heat of a drive', () => {
  it('rises while it works, and after its rest it is cool enough', () => {
    const heat = new Heat({ start: 44, busy: 58, idle: 30 })
    let seconds = 0
    while (!heat.tooWarm) {
      heat.work(10)
      seconds += 10
    }
    expect(seconds).toBeGreaterThan(600)
    expect(heat.celsius).toBeGreaterThanOrEqual(TOO_WARM)
    expect(heat.rest()).toBeGreaterThan(60)
    expect(heat.celsius).toBeCloseTo(48, 6)
    expect(new Heat({ start: 30, busy: 40, idle: 25 }).tooWarm).toBe(false)
    expect(new Heat({ start: 56, busy: 60, idle: 50 }).rest()).toBe(0)
  })
})

describe('what a copy leaves behind as files', () => {
  const summary = CopySummarySchema.parse({
    copiedBytes: 10,
    writtenBytes: 10,
    checkedBytes: 10,
    digest: 'ab',
    digestName: 'BLAKE3',
    bufferBytes: 1,
    copySeconds: 2,
    checkSeconds: 1,
    lost: [{ partition: 2, sourceLba: 5, targetLba: 9, sectors: 3, files: ['/a, "b".txt'] }],
    partitions: [{ number: 2, title: 'Shows (D:)', bytes: 10, mode: 'used', skippedBytes: 7, seconds: 2 }],
  })

  it('are a table that a spreadsheet reads, whatever the files are called', () => {
    const [head, line] = summaryCsv(summary).trim().split('\n')
    expect(head).toBe(
      'partition,name,read,copied_bytes,skipped_bytes,left_out_bytes,lost_sectors,lost_files,seconds,bytes_per_second,checked,digest,digest_kind',
    )
    expect(line).toBe('2,Shows (D:),used blocks,10,7,0,3,"/a, ""b"".txt",2,5,"read back, equal",ab,BLAKE3')
  })

  it.each(['=1+1', '+1', '-1', '@SUM(A1)', '\t=1'])('take no name for a formula: %j', (title) => {
    const [partition] = summary.partitions
    const [, line] = summaryCsv({ ...summary, partitions: [{ ...partition, title }] }).split('\n')
    expect(line.split(',')[1]).toBe(`'${title}`)
  })

  it('and a list of lost sectors, which is refused with its place when it is malformed', () => {
    const file = {
      format: 'imbarco lost sectors',
      version: 1,
      work: 'w',
      source: { name: 'a', sizeBytes: 1 },
      target: { name: 'b', sizeBytes: 1 },
      lost: summary.lost,
    }
    expect(readLostFile(JSON.stringify(file)).lost).toEqual(summary.lost)
    expect(() => readLostFile(JSON.stringify({ ...file, version: 2 }))).toThrow(/Line 1, column \d+ \(version\)/)
    expect(() => readLostFile('{')).toThrow(/Nothing was taken from the file/)
  })
})
