import fc from 'fast-check'
import { beforeAll, describe, expect, it } from 'vitest'
import { MemoryDevice } from '../../block/memory'
import { OverlayDevice } from '../../block/overlay'
import { CoreError } from '../../errors'
import { runsOf, sameBytes } from '../../testing'
import { openFileSystem } from '..'
import { formatNtfs } from './format'
import { putNtfsFile } from './put-file'
import { content, expectConsistent, expectFiles, type Written } from './testing'

const MIB = 1024 * 1024
const NOW = 134_169_120_000_000_000n
let base: MemoryDevice
const before: Written[] = [
  { path: '/notes.txt', content: content(120, 1) },
  ...Array.from({ length: 90 }, (_, i) => ({
    path: `/Windows/System32/drivers/driver ${String(i).padStart(3, '0')}.sys`,
    content: content(600 + i * 211, 10 + i),
  })),
]

beforeAll(async () => {
  base = new MemoryDevice(48 * MIB)
  await formatNtfs(base, { label: 'Harbour', serial: 7n, startSector: 2048, time: 1n, files: before })
})

async function sizeOf(device: OverlayDevice, path: string) {
  const volume = await openFileSystem(device)
  const directory = path.slice(0, path.lastIndexOf('/')) || '/'
  const name = path.slice(path.lastIndexOf('/') + 1)
  return (await volume!.list(directory)).find((e) => e.name.toUpperCase() === name.toUpperCase())?.sizeBytes
}

describe('a file that is put onto an NTFS volume', () => {
  it.each([
    ['a small one, in its record', '/tiny.inf', 40],
    ['one in clusters, first of its directory', '/Windows/System32/drivers/AAA.sys', 90_000],
    ['one in the middle, by letters that are not plain', '/Windows/System32/drivers/driver Ö.sys', 5_000],
    ['an empty one', '/Windows/System32/drivers/zz empty', 0],
  ])('is there, the others as they were: %s', async (_what, path, length) => {
    const device = new OverlayDevice(base)
    const bytes = content(length, 500)
    await putNtfsFile(device, path, bytes, NOW)
    await expectFiles(device, [...before, { path, content: bytes }])
    expect(await sizeOf(device, path)).toBe(length)
    await expectConsistent(device)
  })

  it.each([
    ['longer', 70_000],
    ['as long', 600],
    ['shorter, into its record', 12],
    ['empty', 0],
  ])('takes the place of what it held: %s', async (_what, length) => {
    const device = new OverlayDevice(base)
    const path = '/Windows/System32/drivers/driver 000.sys'
    const bytes = content(length, 501)
    await putNtfsFile(device, path.toUpperCase(), bytes, NOW)
    await expectFiles(device, [...before.filter((f) => f.path !== path), { path, content: bytes }])
    expect(await sizeOf(device, path)).toBe(length)
    await expectConsistent(device)
  })

  it('is there in directories that are made with it, where that was asked for', async () => {
    const device = new OverlayDevice(base)
    const files: Written[] = []
    for (let i = 0; i < 12; i++) {
      const folder = `/Windows/System32/kept apart/package ${i % 3}`
      const file = { path: `${folder}/part ${i}.sys`, content: content(i * 900, i) }
      await expect(putNtfsFile(new OverlayDevice(base), file.path, file.content, NOW)).rejects.toThrow(/no directory/)
      await putNtfsFile(device, file.path, file.content, NOW, { directories: true })
      files.push(file)
    }
    await expectFiles(device, [...before, ...files])
    await expectConsistent(device)
    // A file is no directory, whatever is asked.
    const within = putNtfsFile(device, `${files[0].path}/x`, content(9, 1), NOW, { directories: true })
    await expect(within).rejects.toThrow(/no directory/)
  })

  it('finds records where the file table has none left, and room for a larger index', async () => {
    const device = new OverlayDevice(base)
    const files: Written[] = []
    for (let i = 0; i < 150; i++) {
      const file = { path: `/Windows/System32/a rather long name of a file ${i}.dat`, content: content(i * 40, i) }
      await putNtfsFile(device, file.path, file.content, NOW)
      files.push(file)
    }
    await expectFiles(device, [...before, ...files])
    await expectConsistent(device)
  })

  it('any names, in any order, stand in the order of the directory and are found', async () => {
    const name = fc.stringMatching(/^[A-Za-z0-9 äÖñ_-]{1,30}[a-z]$/)
    await fc.assert(
      fc.asyncProperty(
        fc.uniqueArray(name, { minLength: 1, maxLength: 25, selector: (n) => n.toUpperCase() }),
        async (names) => {
          const device = new OverlayDevice(base)
          for (const [i, n] of names.entries()) await putNtfsFile(device, `/${n}`, content(i * 100, i), NOW)
          const volume = await openFileSystem(device)
          const listed = (await volume!.list('/')).map((e) => e.name)
          for (const [i, n] of names.entries()) {
            expect(listed).toContain(n)
            expect(sameBytes(await volume!.readFile(`/${n}`), content(i * 100, i))).toBe(true)
          }
          await expectConsistent(device)
        },
      ),
      { numRuns: runsOf(6, 100) },
    )
  })

  it.each([
    ['in a directory that is not there', '/Nowhere/x.sys', 10, /no directory Nowhere/],
    ['over a directory', '/Windows/System32', 10, /is a directory/],
    ['below a file', '/notes.txt/x', 10, /no directory notes\.txt/],
    ['of a name that no file can have', '/a:b', 10, /cannot be the name of a file/],
    ['larger than the free room', '/large.bin', 60 * MIB, /too little free room/],
    ['without a name', '/', 10, /root directory/],
  ])('is refused %s', async (_what, path, length, why) => {
    const refusal = await putNtfsFile(new OverlayDevice(base), path, new Uint8Array(length), NOW).catch(
      (e: unknown) => e,
    )
    expect(refusal).toBeInstanceOf(CoreError)
    expect((refusal as Error).message).toMatch(why)
  })

  it('is refused on a volume that was not closed', async () => {
    const dirty = new MemoryDevice(16 * MIB)
    await formatNtfs(dirty, { label: '', serial: 7n, startSector: 2048, time: 1n, files: [], dirty: true })
    await expect(putNtfsFile(dirty, '/x', new Uint8Array(1), NOW)).rejects.toThrow(/not closed cleanly.*not written to/)
  })
})
