import type { BlockDevice } from '@/core/block/device'
import { GIB, MIB } from '@/core/bytes/size'
import { noise } from '../../random'
import {
  BASIC_DATA,
  customerFiles,
  ESP,
  fillEsp,
  fillNtfs,
  inGpt,
  layOut,
  RECOVERY,
  RESERVED,
  windowsFiles,
  windowsStore,
} from './parts'

const DISK = '2f90d7a4-6b31-4e58-b7c2-914ae05d8c63'

/** What is written there in full, and not only takes room. */
export const ORDERS = noise(600_000, 661)

/** The disk of the honey house, which another bench reads over the network. */
export async function makeHoneyHouseDisk(device: BlockDevice): Promise<void> {
  const [esp, , system, recovery] = await layOut(device, DISK, [
    ESP('70c8e1b5-39d4-4fa2-8a67-e5b20f9d4c18'),
    RESERVED('b3a6f02e-58c7-4d19-91e4-6f0d2c7a8b35'),
    BASIC_DATA('4e8d19c7-a052-4b63-8df7-c1903e6b5a2f'),
    RECOVERY('9d27b0e8-f146-4c95-a38b-07e5d1c62f4a', 530),
  ])
  await fillEsp(
    device,
    esp,
    0x3b91e04d,
    noise(1_450_000, 640),
    windowsStore('c5f81b36-0d9e-47a2-83c4-e2a76d0f159b', inGpt(DISK, esp), inGpt(DISK, system), 'Windows 10'),
  )
  await fillNtfs(device, system, 'Hives', 0x4d08_b7e1_93fa_26c5n, [
    ...windowsFiles({
      at: inGpt(DISK, system),
      product: 'Windows 10 Pro',
      build: '19044',
      release: '21H2',
      seed: 645,
      pageMib: 2048,
      hibernation: { mib: 2600, asleep: false },
    }),
    { path: '/Orders/2026/open orders.csv', content: ORDERS },
    ...customerFiles(['/Hives/2024', '/Hives/2025', '/Orders', '/Photographs'], 74 * GIB, {
      seed: 262,
      extension: 'jpg',
      largestMib: 700,
      scatteredBytes: 6 * GIB,
    }),
  ])
  await fillNtfs(device, recovery, 'Recovery', 0x1ce5_8a40_f72d_b396n, [
    { path: '/Recovery/WindowsRE/Winre.wim', unwrittenBytes: 400 * MIB },
  ])
}
