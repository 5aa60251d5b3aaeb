import { describe, expect, it } from 'vitest'
import type { BlockDevice } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { formatNtfs } from '../filesystem/ntfs/format'
import { surveyDrive } from '../survey/survey'
import { makeSystemDisk, sha256, signedLoader } from '../testing-disk'
import { pattern } from '../testing'
import { loaderOn } from './loader-on'
import { SIGNERS } from './types'

const found = async (device: BlockDevice) => loaderOn(device, await surveyDrive(device, sha256), sha256)

describe('the loader that another computer would start of a drive', () => {
  it('is the one where firmware looks last, before the system’s own', async () => {
    expect(await found(await makeSystemDisk())).toEqual({
      path: '/EFI/BOOT/BOOTX64.EFI',
      signature: { state: 'held', signer: SIGNERS[0] },
    })
    expect((await found(await makeSystemDisk({ fallback: false })))?.path).toBe('/EFI/Microsoft/Boot/bootmgfw.efi')
  })

  it('is told with a signature that does not hold, and with none', async () => {
    const changed = signedLoader(1).slice()
    changed[0x300] ^= 1
    expect((await found(await makeSystemDisk({ loader: changed })))?.signature).toMatchObject({ state: 'broken' })
    expect((await found(await makeSystemDisk({ loader: pattern(4000, 3) })))?.signature).toEqual({ state: 'none' })
  })

  it('is none on a drive that has none', async () => {
    expect(await found(new MemoryDevice(8 * 1024 * 1024))).toBeUndefined()
    const data = new MemoryDevice(32 * 1024 * 1024)
    await formatNtfs(data, { label: 'Data', serial: 1n, startSector: 0, time: 1n, files: [] })
    expect(await found(data)).toBeUndefined()
  })
})
