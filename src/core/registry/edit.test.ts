import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { CoreError } from '../errors'
import { makeStore, makeSystemHive, readStore } from '../boot/store'
import { HiveEditor, DirtyHive } from './edit'
import { Hive } from './hive'
import { HEADER_BYTES, headerChecksum, HIVE_HEADER, KEY_NODE, SECURITY } from './layout'
import { makeHive, type NewValue, storedValue } from './make'
import { runsOf } from '../testing'

const open = (bytes: Uint8Array) =>
  Hive.open((offset, length) => Promise.resolve(bytes.subarray(offset, offset + length)), bytes.length)
const DEVICE = { scheme: 'mbr', signature: '7b3f0c11', offset: 1048576 } as const
const STORE = makeStore(
  {
    managerDevice: DEVICE,
    entries: [{ id: 'c2a4e6f8-1b3d-4a5c-8e7f-9d0b2c4e6a81', description: 'Windows 7', path: '\\a', device: DEVICE }],
  },
  1n,
)
const SYSTEM = makeSystemHive({ system: DEVICE, drivers: { storahci: 0, disk: 0 } }, 1n)

/** Walks over every key and value, as deep as keys may lie. */
async function walk(hive: Hive): Promise<number> {
  let seen = 0
  const next = [{ key: hive.root, depth: 0 }]
  while (next.length > 0 && seen < 5000) {
    const { key, depth } = next.pop()!
    seen += 1 + (await hive.values(key)).length
    if (depth < 20) next.push(...(await hive.keys(key)).map((k) => ({ key: k, depth: depth + 1 })))
  }
  return seen
}

const value = fc.oneof<fc.Arbitrary<NewValue>[]>(
  fc.nat(),
  fc.string({ unit: 'grapheme-ascii', maxLength: 60 }),
  fc.uint8Array({ maxLength: 300 }),
  fc.array(fc.string({ unit: 'grapheme-ascii', minLength: 1, maxLength: 20 }), { maxLength: 4 }),
)

describe('changes to a hive', () => {
  it('are read back whatever they are, beside all that was not changed', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.record({ name: fc.constantFrom('Start', 'New', 'Other', 'ImagePath'), value }), { maxLength: 12 }),
        async (changes) => {
          const wanted = new Map<string, NewValue>([['Start', 1]])
          const free = { values: { Room: new Uint8Array(4000) } }
          let bytes = makeHive('T', { keys: { A: { values: { Start: 1, Kept: 'as it was' } }, Spare: free } }, 1n)
          const before = bytes.length
          for (const { name, value: next } of changes) {
            const editor = await HiveEditor.open(bytes)
            try {
              await editor.set((await editor.key('a'))!, name, next)
            } catch (error) {
              // There is only so much room; then nothing is changed.
              expect((error as Error).message).toMatch(/no free room/)
              continue
            }
            bytes = editor.done(2n)
            wanted.set(name, next)
          }
          const hive = await open(bytes)
          const key = (await hive.key('A'))!
          expect(bytes.length).toBe(before)
          expect(hive.settled).toBe(true)
          expect(await hive.text(key, 'Kept')).toBe('as it was')
          for (const [name, next] of wanted) {
            const found = (await hive.find(key, name))!
            const { type, data } = storedValue(next)
            expect([found.type, [...found.data]]).toEqual([type, [...data]])
          }
          expect((await hive.values(key)).length).toBe(wanted.size + 1)
        },
      ),
      { numRuns: runsOf(60, 1500) },
    )
  })

  it('are refused where the hive was not closed, and where there is no room', async () => {
    const unsettled = SYSTEM.slice()
    HIVE_HEADER.write(unsettled, { sequence1: 9 })
    HIVE_HEADER.write(unsettled, { checksum: headerChecksum(unsettled) })
    await expect(HiveEditor.open(unsettled)).rejects.toThrow(DirtyHive)
    const editor = await HiveEditor.open(SYSTEM)
    const key = (await editor.key('Select'))!
    await expect(editor.set(key, 'Large', new Uint8Array(16_000))).rejects.toThrow(/no free room/)
    await expect(editor.set(key, 'Larger', new Uint8Array(20_000))).rejects.toThrow(/too long/)
  })

  it('raise both sequence numbers, and leave the given bytes alone', async () => {
    const before = SYSTEM.slice()
    const editor = await HiveEditor.open(SYSTEM)
    await editor.set((await editor.key('Select'))!, 'Current', 2)
    const { sequence1, sequence2 } = HIVE_HEADER.read(editor.done(3n))
    expect([sequence1, sequence2]).toEqual([2, 2])
    expect(SYSTEM).toEqual(before)
  })
})

describe('a damaged hive', () => {
  it.each([
    ['store', STORE],
    ['system hive', SYSTEM],
  ])('that is a %s is told in a sentence or read, 1500 times, and never hangs', async (_what, whole) => {
    let told = 0
    await fc.assert(
      fc.asyncProperty(
        fc.array(
          fc.record({
            // Where structures are, not only the room behind them.
            at: fc.oneof(fc.nat({ max: 511 }), fc.integer({ min: 4096, max: whole.length - 1 })),
            byte: fc.integer({ min: 0, max: 255 }),
          }),
          { minLength: 1, maxLength: 6 },
        ),
        fc.boolean(),
        fc.option(fc.integer({ min: 0, max: whole.length })),
        async (changes, honest, cut) => {
          const bytes = whole.slice(0, cut ?? whole.length)
          for (const { at, byte } of changes) if (at < bytes.length) bytes[at] = byte
          // A checksum that holds lets the damage through to what lies behind it.
          if (honest && bytes.length >= 512) HIVE_HEADER.write(bytes, { checksum: headerChecksum(bytes) })
          try {
            const hive = await open(bytes)
            await walk(hive)
            await readStore(hive)
            const editor = await HiveEditor.open(bytes)
            const key = (await editor.key('Select')) ?? (await editor.key('Description'))
            if (key) await editor.set(key, 'Word', 'in its place')
            await editor.removeKey(key ? key.name : 'Objects')
            const longer = await HiveEditor.open(bytes, { spareBytes: 500 })
            await longer.make('Made\\Below', 1n)
            longer.done(2n)
          } catch (error) {
            if (!(error instanceof CoreError)) throw error
            expect(error.message).toMatch(/[.]$/)
            told++
          }
        },
      ),
      { numRuns: runsOf(500, 15000) },
    )
    expect(told).toBeGreaterThan(300)
  })
})

describe('taking values out of a key', () => {
  it('leaves the others as they were, and gives their room to what comes next', async () => {
    const names = ['one', 'two', 'three', 'four', 'five']
    await fc.assert(
      fc.asyncProperty(
        fc.tuple(value, value, value, value, value),
        fc.subarray(names, { minLength: 1 }),
        async (contents, gone) => {
          const values = Object.fromEntries(names.map((name, i) => [name, contents[i]]))
          const file = makeHive('SYSTEM', { keys: { Mounted: { values } } }, 1n)
          const editor = await HiveEditor.open(file)
          const key = (await editor.key('Mounted'))!
          for (const name of [...gone, 'never there']) await editor.remove(key, name)
          const after = await open(editor.done(2n))
          const left = names.filter((name) => !gone.includes(name))
          const found = await after.values((await after.key('Mounted'))!)
          expect(found.map((v) => v.name)).toEqual(left)
          for (const { name, data } of found) expect(data).toEqual(storedValue(values[name]).data)
          // What was let go can be taken again, for as much as it was.
          for (const name of gone) await editor.set((await editor.key('Mounted'))!, name, values[name])
          const again = await open(editor.done(3n))
          expect((await again.values((await again.key('Mounted'))!)).map((v) => v.name).sort()).toEqual(
            [...names].sort(),
          )
        },
      ),
      { numRuns: 60 },
    )
  })
})

describe('keys that are made and taken out', () => {
  const word = fc.stringMatching(/^[A-Za-z0-9_&. -]{1,20}$/)
  const path = fc.array(word, { minLength: 1, maxLength: 3 }).map((names) => names.join('\\'))
  /** Every key by its path in upper case, with what its value `V` holds. */
  async function all(hive: Hive) {
    const found = new Map<string, string>()
    const left = [{ key: hive.root, at: '' }]
    while (left.length > 0) {
      const { key, at } = left.pop()!
      const children = await hive.keys(key)
      const names = children.map((c) => c.name.toUpperCase())
      // Systems search a list by halves, so it has to be in order.
      expect(names).toEqual([...names].sort((a, b) => (a < b ? -1 : 1)))
      for (const child of children) {
        const below = `${at}\\${child.name.toUpperCase()}`
        found.set(below, (await hive.text(child, 'V')) ?? '')
        left.push({ key: child, at: below })
      }
    }
    return found
  }

  it('leave just those that are to be there, each with its value, in a file as long as it has to be', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.record({ path, gone: fc.boolean() }), { minLength: 1, maxLength: 30 }),
        async (steps) => {
          let bytes = makeHive('T', { keys: { Kept: { values: { V: 'as it was' } } } }, 1n)
          const model = new Map([['\\KEPT', 'as it was']])
          for (const step of steps) {
            const editor = await HiveEditor.open(bytes, { spareBytes: 1000 })
            const upper = `\\${step.path.toUpperCase()}`
            if (step.gone) {
              await editor.removeKey(step.path)
              for (const key of model.keys()) if (key === upper || key.startsWith(`${upper}\\`)) model.delete(key)
            } else {
              await editor.set(await editor.make(step.path, 2n), 'V', step.path)
              const names = upper.split('\\').slice(1)
              for (let i = 1; i < names.length; i++) {
                const above = `\\${names.slice(0, i).join('\\')}`
                if (!model.has(above)) model.set(above, '')
              }
              model.set(upper, step.path)
            }
            bytes = editor.done(3n)
          }
          expect(bytes.length % 4096).toBe(0)
          expect(await all(await open(bytes))).toEqual(model)
        },
      ),
      { numRuns: 120 },
    )
  })

  it('go on in further lists where there are very many, and are counted by their rights', async () => {
    const names = Array.from({ length: 540 }, (_, i) => `service ${String((i * 7) % 540).padStart(4, '0')}`)
    const there = { keys: Object.fromEntries(names.slice(0, 480).map((name) => [name, {}])) }
    let bytes = makeHive('T', { keys: { Services: there } }, 1n)
    const editor = await HiveEditor.open(bytes, { spareBytes: 600_000 })
    for (const name of names.slice(480)) await editor.make(`Services\\${name}`, 2n)
    await editor.removeKey('Services\\service 0300')
    bytes = editor.done(3n)
    const hive = await open(bytes)
    const services = (await hive.key('Services'))!
    expect((await hive.keys(services)).map((k) => k.name)).toEqual(
      [...names].sort().filter((name) => name !== 'service 0300'),
    )
    expect((await hive.listPlaces(services)).length).toBe(3)
    expect(await hive.key('Services\\service 0300')).toBeUndefined()
    const { security } = KEY_NODE.read(bytes, HEADER_BYTES + services.at + 4)
    expect(SECURITY.read(bytes, HEADER_BYTES + security + 4).keys).toBe(541)
  })

  it('of a name that no key can have are refused', async () => {
    const editor = await HiveEditor.open(SYSTEM, { spareBytes: 100 })
    await expect(editor.make('Sérvice', 1n)).rejects.toThrow(/plain text/)
  })
})
