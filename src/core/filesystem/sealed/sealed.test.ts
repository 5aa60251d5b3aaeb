import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../../block/memory'
import { MIB } from '../../bytes/size'
import { collect } from '../../testing'
import { openFileSystem } from '..'
import { formatBitLocker } from './bitlocker-format'
import { LVM_LABEL } from './lvm'

describe('volumes that cannot be looked into', () => {
  it('BitLocker: identity and description, every sector used, files refused with the reason', async () => {
    const device = new MemoryDevice(128 * MIB)
    await formatBitLocker(device, {
      description: 'DESK C: 1.5.2026',
      volumeGuid: '5ce20a97-d481-4b6f-8f35-72e9c01ab846',
      created: 1n,
    })
    const volume = (await openFileSystem(device))!
    expect([volume.kind, volume.label, volume.serial, volume.encrypted]).toEqual([
      'bitlocker',
      'DESK C: 1.5.2026',
      '5ce20a97-d481-4b6f-8f35-72e9c01ab846',
      true,
    ])
    expect(await collect(volume.usedExtents())).toEqual([{ offset: 0, length: 128 * MIB }])
    await expect(volume.list('/')).rejects.toThrow(/encrypted with BitLocker/)
    // Without its metadata it is still known as what it is.
    await device.write(33 * MIB, new Uint8Array(65536))
    await device.write(42 * MIB, new Uint8Array(65536))
    await device.write(85 * MIB, new Uint8Array(65536))
    expect((await openFileSystem(device))?.kind).toBe('bitlocker')
  })

  it('a member of a group of logical volumes, by its label', async () => {
    const device = new MemoryDevice(8 * MIB)
    const bytes = new Uint8Array(512)
    LVM_LABEL.write(bytes, { id: 'LABELONE', sector: 1, contentOffset: 32, type: 'LVM2 001' })
    bytes.set(new TextEncoder().encode('a1B2c3D4e5F6g7H8i9J0k1L2m3N4o5P6'), 32)
    await device.write(512, bytes)
    const volume = (await openFileSystem(device))!
    expect([volume.kind, volume.serial, volume.encrypted ?? false]).toEqual([
      'lvm',
      'a1B2c3-D4e5-F6g7-H8i9-J0k1-L2m3-N4o5P6',
      false,
    ])
    expect(volume.findings[0].sentence).toMatch(/every sector/)
  })
})
