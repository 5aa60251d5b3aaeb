import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { JsonFileError } from '../json-file'
import { type BenchFile, readBenchFile } from './bench-file'
import { computer, dock, drive, host, network, stick } from './testing'

function inFile(id: string, rest: Partial<BenchFile['drives'][number]> = {}): BenchFile['drives'][number] {
  const { file, ...made } = drive(id)
  void file
  return { ...made, content: 'blank', sizeBytes: 240_000_000_000, ...rest }
}

function bench(changes: Partial<BenchFile> = {}): BenchFile {
  return {
    format: 'imbarco bench',
    version: 1,
    name: 'Second bench',
    computers: [computer('desk')],
    accessories: [dock('dock'), stick(), host(), network()],
    drives: [inFile('old', { place: { kind: 'slot', computerId: 'desk', slot: 'SATA 0' } }), inFile('new')],
    ...changes,
  }
}

const text = (file: unknown) => JSON.stringify(file, null, 2)

function refusal(content: string): JsonFileError {
  try {
    readBenchFile(content)
  } catch (error) {
    expect(error).toBeInstanceOf(JsonFileError)
    return error as JsonFileError
  }
  throw new Error('The file was taken.')
}

describe('a bench file', () => {
  it('gives back what was written', () => {
    expect(readBenchFile(text(bench()))).toEqual(bench())
  })

  it('that is no JSON is refused with line and column', () => {
    const broken = text(bench()).replace('"name": "Second bench",', '"name": "Second bench"')
    const error = refusal(broken)
    expect([error.line, error.column]).toEqual([5, 3])
    expect(error.message).toBe('Line 5, column 3: a comma is missing. Nothing was taken from the file.')
    for (const nothing of ['', '   ', '[', '{"a":', 'name: bench', '{"format":"imbarco bench"} more']) refusal(nothing)
  })

  it.each<[string, unknown, string, RegExp]>([
    ['of something else', { ...bench(), format: 'other' }, 'format', /imbarco bench/],
    ['of a later version', { ...bench(), version: 2 }, 'version', /1/],
    [
      'with a drive of no size',
      bench({ drives: [inFile('old', { sizeBytes: -1 })] }),
      'drives[0].sizeBytes',
      /small|>0|positive/i,
    ],
    [
      'with an unknown link',
      { ...bench(), computers: [{ ...computer('desk'), sockets: [{ plug: 'A', link: 'usb-99', count: 1 }] }] },
      'computers[0].sockets[0].link',
      /usb-2/,
    ],
    ['with one id twice', bench({ computers: [computer('desk'), computer('desk')] }), 'computers[1].id', /there twice/],
    [
      'with a start from nowhere',
      bench({ computers: [computer('desk', { homeSlot: 'SATA 7' })], drives: [] }),
      'computers[0].homeSlot',
      /no slot "SATA 7"/,
    ],
    [
      'with a drive in no place',
      bench({ drives: [inFile('old', { place: { kind: 'bay', accessoryId: 'dock', bay: 'bay 9' } })] }),
      'drives[0].place',
      /no such place/,
    ],
    [
      'with a drive where it does not go',
      bench({
        drives: [
          inFile('old', {
            body: { form: 'M.2', size: '2280', key: 'M' },
            protocol: 'PCIe',
            place: { kind: 'slot', computerId: 'desk', slot: 'SATA 0' },
          }),
        ],
      }),
      'drives[0].place',
      /does not go there: it takes 2\.5-inch SATA/,
    ],
    [
      'with two drives in one place',
      bench({
        drives: [
          inFile('old', { place: { kind: 'slot', computerId: 'desk', slot: 'SATA 0' } }),
          inFile('new', { place: { kind: 'slot', computerId: 'desk', slot: 'SATA 0' } }),
        ],
      }),
      'drives[1].place',
      /sits there already/,
    ],
    [
      'with an image that is not named',
      bench({ drives: [inFile('old', { content: 'image' })] }),
      'drives[0].image',
      /not named/,
    ],
    [
      'with one image for two drives',
      bench({
        drives: [
          inFile('old', { content: 'image', image: 'old disk.img' }),
          inFile('new', { content: 'image', image: 'old disk.img' }),
        ],
      }),
      'drives[1].image',
      /stands for the .* already/,
    ],
    [
      'with half a sector',
      bench({ drives: [inFile('old', { sizeBytes: 1_000_001 })] }),
      'drives[0].sizeBytes',
      /whole number of sectors/,
    ],
  ])('%s is refused with the place', (_what, file, path, what) => {
    const content = text(file)
    const error = refusal(content)
    expect(error.path).toBe(path)
    expect(error.message).toMatch(what)
    const key = path
      .split('.')
      .at(-1)!
      .replace(/\[\d+\]$/, '')
    // The line named holds the value, or what it is missing in.
    expect(content.split('\n')[error.line - 1]).toMatch(path.includes('.image') ? /./ : new RegExp(`"${key}"`))
  })

  it('that is damaged anywhere is refused or taken, and never breaks', () => {
    const whole = text(bench())
    fc.assert(
      fc.property(fc.nat(whole.length - 1), fc.constantFrom('', '{', '"', '0', ',', '\u0000', 'é'), (at, piece) => {
        const damaged = whole.slice(0, at) + piece + whole.slice(at + 1)
        try {
          readBenchFile(damaged)
        } catch (error) {
          expect(error).toBeInstanceOf(JsonFileError)
          expect((error as JsonFileError).message).toMatch(/^Line \d+, column \d+.*Nothing was taken from the file\.$/s)
        }
      }),
      { numRuns: 400 },
    )
  })
})
