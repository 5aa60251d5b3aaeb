import { describe, expect, it } from 'vitest'
import { Hive } from './hive'
import { HIVE_HEADER, headerChecksum } from './layout'
import { makeHive } from './make'

const reader = (bytes: Uint8Array) => async (offset: number, length: number) => bytes.slice(offset, offset + length)
const open = (bytes: Uint8Array) => Hive.open(reader(bytes), bytes.length)

describe('a registry hive', () => {
  const many = Object.fromEntries(
    Array.from({ length: 300 }, (_, i) => [`Driver${i}`, { values: { Start: i, ImagePath: `d${i}.sys` } }]),
  )
  const bytes = makeHive(
    'SYSTEM',
    { keys: { ControlSet001: { keys: { Services: { keys: many } } }, Select: { values: { Current: 1 } } } },
    1n,
  )

  it('gives back every key and value, whatever their case', async () => {
    const hive = await open(bytes)
    expect(hive.settled).toBe(true)
    const services = (await hive.key('controlset001\\SERVICES'))!
    expect((await hive.keys(services)).map((k) => k.name).sort()).toEqual(Object.keys(many).sort())
    for (const i of [0, 7, 150, 299]) {
      const key = (await hive.key(`Driver${i}`, services))!
      expect([await hive.number(key, 'start'), await hive.text(key, 'ImagePath')]).toEqual([i, `d${i}.sys`])
    }
    expect(await hive.key('ControlSet001\\Nothing')).toBeUndefined()
    expect(await hive.text((await hive.key('Select'))!, 'Current')).toBeUndefined()
  })

  it('that was not written to its end says so, and one with a wrong checksum is not believed', async () => {
    const open2 = bytes.slice()
    HIVE_HEADER.write(open2, { sequence1: 9 })
    await expect(open(open2)).rejects.toThrow(/checksum/)
    HIVE_HEADER.write(open2, { checksum: headerChecksum(open2) })
    expect((await open(open2)).settled).toBe(false)
    await expect(open(bytes.subarray(0, 100))).rejects.toThrow(/100 bytes long/)
  })
})
