import { describe, expect, it } from 'vitest'
import { MIB } from '../bytes/size'
import { pattern } from '../testing'
import type { BlockDevice } from './device'
import { eraseDevice } from './erase'
import { CorruptingDevice } from './faulty'
import { MemoryDevice } from './memory'

async function written(): Promise<MemoryDevice> {
  const device = new MemoryDevice(64 * MIB)
  for (const at of [0, 17 * MIB, 64 * MIB - 4096]) await device.write(at, pattern(4096, at + 1))
  return device
}

async function nonZero(device: BlockDevice): Promise<number> {
  let count = 0
  for (const { offset, length } of await device.mapped!(0, device.size)) {
    const bytes = new Uint8Array(length)
    await device.read(offset, bytes)
    count += bytes.filter((byte) => byte !== 0).length
  }
  return count
}

describe('erasing a drive', () => {
  it('leaves zeros everywhere, and has read them back', async () => {
    const device = await written()
    expect(await nonZero(device)).toBeGreaterThan(0)
    const erased = await eraseDevice(device, 'zeros')
    expect(await nonZero(device)).toBe(0)
    expect(erased.writtenBytes).toBeGreaterThanOrEqual(3 * 4096)
    expect(erased.checkedBytes).toBeGreaterThan(erased.writtenBytes)
  })

  it('says so when the drive keeps something', async () => {
    const device = new CorruptingDevice(await written(), [{ firstLba: (17 * MIB) / 512, count: 1 }])
    await expect(eraseDevice(device, 'zeros')).rejects.toThrow(/It is not erased/)
  })

  it('discards where the drive can, and refuses where it cannot', async () => {
    const device = await written()
    const cannot: BlockDevice = Object.assign(Object.create(device) as BlockDevice, { discard: undefined })
    await expect(eraseDevice(cannot, 'discard')).rejects.toThrow(/Write zeros/)
    const can: BlockDevice = Object.assign(Object.create(device) as BlockDevice, {
      discard: async (offset: number, length: number) => {
        for (let at = offset; at < offset + length; at += MIB) await device.write(at, new Uint8Array(MIB))
      },
    })
    expect(await eraseDevice(can, 'discard')).toMatchObject({ how: 'discard', writtenBytes: 0 })
    const deaf: BlockDevice = Object.assign(Object.create(await written()) as BlockDevice, { discard: async () => {} })
    await expect(eraseDevice(deaf, 'discard')).rejects.toThrow(/still gives something else/)
  })
})
