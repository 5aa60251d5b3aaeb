import type { BlockDevice } from '@/core/block/device'
import { GIB, MIB } from '@/core/bytes/size'
import { formatBitLocker } from '@/core/filesystem/sealed/bitlocker-format'
import { noise } from '../../random'
import {
  BASIC_DATA,
  ESP,
  fillEsp,
  fillNtfs,
  inGpt,
  layOut,
  RECOVERY,
  RESERVED,
  SERVICED,
  slice,
  windowsStore,
} from './parts'

const DISK = 'e7390bd4-f8a1-4c52-9076-1bd5c3e84f2a'

/** The beekeepers' disk: a Windows whose system volume is encrypted. */
export async function makeFieldLaptopDisk(device: BlockDevice): Promise<void> {
  const [esp, , system, recovery] = await layOut(device, DISK, [
    ESP('a2f68c15-4be0-4d93-87c1-d05e9f73b624', 260),
    RESERVED('68c0d71e-f5a9-4b34-8e2d-907bc16a5df3'),
    BASIC_DATA('1d95ea07-b364-4fc8-a912-6e83d0f5c7b9'),
    RECOVERY('f04b7c92-1e68-4da5-93b7-c8d2506fe1a4', 990),
  ])
  await fillEsp(
    device,
    esp,
    0x2c94f1d8,
    noise(1_560_000, 900),
    windowsStore('b8e4c6d2-7f30-4921-8c5e-4d6f80a12b3c', inGpt(DISK, esp), inGpt(DISK, system), 'Windows 11'),
  )
  const volume = slice(device, system)
  await formatBitLocker(volume, {
    description: 'FIELD-LAPTOP Hives 11.02.2026',
    volumeGuid: '5ce20a97-d481-4b6f-8f35-72e9c01ab846',
    created: SERVICED - 17_280_000_000_000n,
  })
  // Ciphertext looks like noise wherever one looks; a little of it stands for the rest.
  for (const place of [1 * MIB, 40 * MIB, 7 * GIB, 210 * GIB]) await volume.write(place, noise(256 * 1024, 901))
  await fillNtfs(device, recovery, 'Recovery', 0x95c7_e3a0_184d_6fb2n, [
    { path: '/Recovery/WindowsRE/Winre.wim', unwrittenBytes: 610 * MIB },
  ])
}
