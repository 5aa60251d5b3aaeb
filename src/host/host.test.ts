import { execFileSync } from 'node:child_process'
import {
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  symlinkSync,
  truncateSync,
  writeFileSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import fc from 'fast-check'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { OutOfRange, readBytes } from '@/core/block/device'
import { MemoryDevice } from '@/core/block/memory'
import { readOnly } from '@/core/block/readonly'
import { type JournalRecord, journalLine } from '@/core/copy/journal'
import { type CopyPlan, planCopy } from '@/core/copy/plan'
import { CoreError } from '@/core/errors'
import { solveFit } from '@/core/fit/solve'
import type { TargetKind } from '@/core/image'
import { recordText } from '@/core/repair/apply'
import { surveyDrive } from '@/core/survey/survey'
import { pattern, runsOf, sameBytes } from '@/core/testing'
import { makeSystemDisk, sha256, storedDigest } from '@/core/testing-disk'
import { NoFile } from './errors'
import { folderFiles } from './folder-files'
import { unpackFile } from './packed'
import { CopyEnded } from '@/core/copy/run'
import { BackgroundStore } from './background-store'
import { openJournal } from './journal-file'
import { RawFile } from './raw-file'
import { writeImage } from './write-image'
import { repairIn, repairJournal } from './repair-journal'

const MIB = 1024 * 1024
const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-host-'))
const at = (name: string) => path.join(folder, name)
let count = 0
const fresh = () => at(`file-${count++}`)
afterAll(() => rmSync(folder, { recursive: true, force: true }))

describe('a raw file', () => {
  it('reads back what was written, and zeros elsewhere, as a disk in memory does', async () => {
    const size = 4 * MIB
    const sector = fc.integer({ min: 0, max: size / 512 - 1 })
    const piece = fc.record({ lba: sector, sectors: fc.integer({ min: 1, max: 600 }), seed: fc.nat(250) })
    await fc.assert(
      fc.asyncProperty(fc.array(piece, { maxLength: 12 }), sector, async (pieces, cut) => {
        const file = await RawFile.create(fresh(), size, 512)
        const model = new MemoryDevice(size)
        for (const { lba, sectors, seed } of pieces) {
          const length = Math.min(sectors * 512, size - lba * 512)
          for (const device of [file, model]) await device.write(lba * 512, pattern(length, seed))
        }
        await file.discard(cut * 512, size - cut * 512)
        await model.write(cut * 512, new Uint8Array(size - cut * 512))
        await file.flush()
        expect(sameBytes(await readBytes(file, 0, size), await readBytes(model, 0, size))).toBe(true)
        // Whatever is said to hold nothing does.
        let next = 0
        for (const { offset, length } of [...(await file.mapped!(0, size)), { offset: size, length: 0 }]) {
          expect((await readBytes(model, next, offset - next)).every((b) => b === 0)).toBe(true)
          next = offset + length
        }
        await file.close()
      }),
      { numRuns: runsOf(8, 200) },
    )
  })

  it('takes no name that is taken, and opens only what is there', async () => {
    const file = fresh()
    await (await RawFile.create(file, MIB, 512)).close()
    writeFileSync(file, 'kept')
    await expect(RawFile.create(file, MIB, 512)).rejects.toThrow(/there already: file-/)
    expect(readFileSync(file, 'utf8')).toBe('kept')
    await expect(RawFile.open(at('none'), 512)).rejects.toThrow(NoFile)
    await expect(RawFile.create(at('none/deeper'), MIB, 512)).rejects.toThrow(/no such file/)
  })

  it('reads and writes whole sectors inside it only, and forgets its end only', async () => {
    const file = await RawFile.create(fresh(), MIB, 512)
    await expect(file.write(1, new Uint8Array(512))).rejects.toThrow(OutOfRange)
    await expect(file.write(MIB, new Uint8Array(512))).rejects.toThrow(OutOfRange)
    await expect(file.read(MIB - 512, new Uint8Array(1024))).rejects.toThrow(OutOfRange)
    await expect(file.discard(0, 512)).rejects.toThrow(/Only the end/)
    await file.close()
  })

  it('that was cut while it is open says so', async () => {
    const name = fresh()
    const file = await RawFile.create(name, MIB, 512)
    truncateSync(name, 512)
    await expect(file.read(512, new Uint8Array(512))).rejects.toThrow(/shorter than it was/)
    await file.close()
  })
})

describe('the journal of a copy in a file', () => {
  const RECORDS: JournalRecord[] = [
    { did: 'begin', job: 'one', work: 'w', verify: true },
    { did: 'erase', blank: true },
    { did: 'copy', pieces: 0, digests: '', later: [], written: 0 },
    { did: 'copy all' },
    { did: 'check', pieces: 0, differ: [] },
    { did: 'check all' },
    { did: 'end' },
  ]
  const whole = RECORDS.map(journalLine).join('')

  it('is taken up from its last whole line, wherever it was cut or damaged', async () => {
    const ends = RECORDS.map(
      (_, i) =>
        RECORDS.slice(0, i + 1)
          .map(journalLine)
          .join('').length,
    )
    await fc.assert(
      fc.asyncProperty(fc.nat(whole.length), fc.boolean(), fc.nat(255), async (place, cut, byte) => {
        const file = fresh()
        const bytes = Buffer.from(whole)
        if (!cut && place < bytes.length) bytes[place] ^= byte || 1
        writeFileSync(file, cut ? bytes.subarray(0, place) : bytes)
        const sure = ends.filter((end) => end <= place).length
        if (sure === 0 && place < whole.length) {
          await expect(openJournal(file, { resume: true })).rejects.toThrow(CoreError)
          return
        }
        if (sure === RECORDS.length) {
          await expect(openJournal(file, { resume: true })).rejects.toThrow(CopyEnded)
          return
        }
        const journal = await openJournal(file, { resume: true })
        expect(journal.state!.job).toBe('one')
        expect(journal.state!.equal).toBe(sure >= 6)
        // What is added follows what is sure.
        await journal.append({ did: 'let go', target: 1, why: 'it was taken out' })
        await journal.close()
        const again = await openJournal(file, { resume: true })
        expect([...again.state!.letGo]).toEqual([[1, 'it was taken out']])
        expect(statSync(file).size).toBe(
          (ends[sure - 1] ?? 0) + journalLine({ did: 'let go', target: 1, why: 'it was taken out' }).length,
        )
        await again.close()
      }),
      { numRuns: runsOf(40, 1000) },
    )
  })

  it('is never written over: not one that was cut off, not one that has ended, not anything else', async () => {
    const file = fresh()
    for (const [text, sentence] of [
      [whole, /has ended/],
      [RECORDS.slice(0, 3).map(journalLine).join(''), /was cut off/],
    ] as const) {
      writeFileSync(file, text)
      await expect(openJournal(file, { resume: false })).rejects.toThrow(sentence)
      expect(readFileSync(file, 'utf8')).toBe(text)
    }
    // One that was cut off in its first line holds nothing.
    writeFileSync(file, whole.slice(0, 30))
    const journal = await openJournal(file, { resume: false })
    expect(journal.state).toBeUndefined()
    await journal.close()
    for (const text of ['a letter to somebody\n', '{"format":"imbarco layout"}', '\0'.repeat(600)]) {
      writeFileSync(file, text)
      await expect(openJournal(file, { resume: false })).rejects.toThrow(/is not the journal of a copy, so it is kept/)
      expect(readFileSync(file, 'utf8')).toBe(text)
    }
    await expect(openJournal(at('none'), { resume: true })).rejects.toThrow(NoFile)
    await expect(openJournal(at('.'), { resume: false })).rejects.toThrow(NoFile)
  })

  it('takes lines that come at one moment one after the other', async () => {
    const file = fresh()
    const journal = await openJournal(file, { resume: false })
    await Promise.all(RECORDS.map((record) => journal.append(record)))
    await journal.close()
    expect(readFileSync(file, 'utf8')).toBe(whole)
  })
})

describe('the journal of a repair in a file', () => {
  const record = {
    kind: 'repair' as const,
    name: 'hidden-sectors',
    title: 'Mend it',
    changes: ['One.'],
    state: 'writing' as const,
    patches: [{ offset: 512, before: pattern(512, 1), after: pattern(512, 2) }],
  }

  it('gives back what it keeps, and nothing is left beside it', async () => {
    const file = path.join(fresh(), 'deeper.repair')
    expect(await repairIn(file)).toBeUndefined()
    const journal = repairJournal(file)
    for (const state of ['writing', 'done', 'undone'] as const) {
      await journal.keep(recordText({ ...record, state }))
      expect((await repairIn(file))!.state).toBe(state)
    }
    const [patch] = (await repairIn(file))!.patches
    expect(sameBytes(patch.before, record.patches[0].before)).toBe(true)
    expect(sameBytes(patch.after, record.patches[0].after)).toBe(true)
    expect(readdirSync(path.dirname(file))).toEqual(['deeper.repair'])
  })

  it('that was written half beside it changes nothing', async () => {
    const file = fresh()
    await repairJournal(file).keep(recordText({ ...record, state: 'done' }))
    writeFileSync(`${file}.new`, '{"kind":"rep')
    expect((await repairIn(file))!.state).toBe('done')
  })

  it('that is something else is called so', async () => {
    for (const text of ['', '{', '{"kind":"repair"}', '[]', recordText(record).replace('writing', 'maybe')]) {
      const file = fresh()
      writeFileSync(file, text)
      await expect(repairIn(file)).rejects.toThrow(/not the journal of a repair, or was changed/)
    }
  })
})

describe('a folder of this host', () => {
  const root = at('drivers')
  beforeAll(() => {
    mkdirSync(path.join(root, 'T9'), { recursive: true })
    writeFileSync(path.join(root, 'T9', 'a.inf'), 'text')
    writeFileSync(at('secret'), 'outside')
    symlinkSync(at('secret'), path.join(root, 'link'))
  })

  it('is read as a volume is', async () => {
    const files = folderFiles(root)
    expect(await files.list('/')).toEqual([{ name: 'T9', path: '/T9', kind: 'directory', sizeBytes: 0 }])
    expect(await files.list('/T9')).toEqual([{ name: 'a.inf', path: '/T9/a.inf', kind: 'file', sizeBytes: 4 }])
    const text = async (...range: number[]) => Buffer.from(await files.readFile('/T9/a.inf', ...range)).toString()
    expect([await text(), await text(1, 2), await text(9)]).toEqual(['text', 'ex', ''])
  })

  it('never leads out of itself', async () => {
    const files = folderFiles(root)
    for (const out of ['../secret', '/../secret', '/T9/../../secret'])
      await expect(files.readFile(out)).rejects.toThrow(/no such file/)
    await expect(files.list('/none')).rejects.toThrow(/no such file/)
    await expect(files.readFile('/T9')).rejects.toThrow(/folder, not a file/)
  })
})

describe('a copy onto a file', () => {
  let source: MemoryDevice
  let plan: CopyPlan
  const options = { to: 'raw' as TargetKind, time: 0, note: '', work: 'w', onStep: async () => {} }
  const digestOf = async (file: string) => {
    const raw = await RawFile.open(file, 512)
    const memory = new MemoryDevice(raw.size)
    for (const { offset, length } of await raw.mapped!(0, raw.size))
      await memory.write(offset, await readBytes(raw, offset, length))
    await raw.close()
    return storedDigest(memory)
  }

  beforeAll(async () => {
    source = await makeSystemDisk({ systemFiles: [{ path: '/large.bin', content: pattern(30 * MIB, 3) }] })
    const fit = solveFit(await surveyDrive(source, sha256), { sizeBytes: 600 * MIB, logicalSectorSize: 512 })
    if (!fit.fits) throw new Error('it should fit')
    plan = await planCopy(readOnly(source), fit.layout)
  })

  it('has its name only when it is whole, and leaves nothing when it fails', async () => {
    const inside = fresh()
    mkdirSync(inside)
    const file = path.join(inside, 'disk.img')
    let steps = 0
    const failing = async () => {
      if (++steps > 3) throw new CoreError('Enough.')
      expect(existsSync(file)).toBe(false)
    }
    await expect(writeImage(plan, file, { ...options, onStep: failing })).rejects.toThrow('Enough.')
    expect(readdirSync(inside)).toEqual([])
    await writeImage(plan, file, options)
    expect(readdirSync(inside)).toEqual(['disk.img'])
  })

  it('replaces a file only where that was said, and only by a whole one', async () => {
    const file = fresh()
    writeFileSync(file, 'kept')
    await expect(writeImage(plan, file, options)).rejects.toThrow(/there already/)
    const failing = async () => Promise.reject(new CoreError('Enough.'))
    await expect(writeImage(plan, file, { ...options, overwrite: true, onStep: failing })).rejects.toThrow('Enough.')
    expect(readFileSync(file, 'utf8')).toBe('kept')
    await writeImage(plan, file, { ...options, overwrite: true })
    expect(statSync(file).size).toBe(600 * MIB)
  })

  it('that fails at any step goes on by its journal to the same bytes', async () => {
    const wanted = fresh()
    let all = 0
    await writeImage(plan, wanted, { ...options, onStep: async () => void all++ })
    const digest = await digestOf(wanted)
    await fc.assert(
      fc.asyncProperty(fc.array(fc.integer({ min: 1, max: all - 1 }), { minLength: 1, maxLength: 3 }), async (ends) => {
        const [file, journal] = [fresh(), fresh()]
        let resume = false
        for (const end of ends) {
          let steps = 0
          const onStep = async () => {
            if (++steps === end) throw new CoreError('Power.')
          }
          const run: Promise<boolean> = writeImage(plan, file, { ...options, journal, resume, onStep }).then(
            () => true,
            () => false,
          )
          const ended = await run
          resume = !ended
          if (ended) break
        }
        if (resume) await writeImage(plan, file, { ...options, journal, resume })
        expect(await digestOf(file)).toBe(digest)
      }),
      { numRuns: 5 },
    )
  })

  it('goes on with no other copy’s journal', async () => {
    const [file, journal] = [fresh(), fresh()]
    let steps = 0
    const onStep = async () => {
      if (++steps === 4) throw new CoreError('Power.')
    }
    await expect(writeImage(plan, file, { ...options, journal, onStep })).rejects.toThrow('Power.')
    await expect(writeImage(plan, file, { ...options, work: 'another', journal, resume: true })).rejects.toThrow(
      CoreError,
    )
  })
})

describe('a file that is stored while it is written', () => {
  it('tells at every later flush that something could not be stored, though the host says so once only', async () => {
    const answers = [Promise.reject(new Error('the medium')), Promise.resolve(), Promise.resolve()]
    const store = new BackgroundStore({ datasync: async () => answers.shift() })
    store.wrote(200 * MIB)
    await expect(store.flush()).rejects.toThrow('the medium')
    await expect(store.flush()).rejects.toThrow('the medium')
  })
})

describe('a packed file that unpacks to very much', () => {
  it.each(['zstd', 'gzip'] as const)('is unpacked a little at a time: %s', async (packing) => {
    const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-packed-'))
    try {
      const file = path.join(folder, 'zeros')
      const pack = packing === 'zstd' ? 'zstd -q -3' : 'gzip -1'
      execFileSync('sh', ['-c', `head -c 700M /dev/zero | ${pack} > '${file}'`])
      let [bytes, most] = [0, 0]
      const before = process.memoryUsage().arrayBuffers
      for await (const piece of unpackFile(file, packing)) {
        bytes += piece.length
        most = Math.max(most, process.memoryUsage().arrayBuffers - before)
      }
      expect(bytes).toBe(700 * 1024 * 1024)
      expect(most).toBeLessThan(450 * 1024 * 1024)
    } finally {
      rmSync(folder, { recursive: true, force: true })
    }
  })
})
