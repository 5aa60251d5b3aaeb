import type { BlockDevice } from '@/core/block/device'
import { GIB } from '@/core/bytes/size'
import { formatExfat } from '@/core/filesystem/exfat/format'
import { noise } from '../../random'
import {
  BASIC_DATA,
  customerFiles,
  ESP,
  fillEsp,
  fillNtfs,
  inGpt,
  layOut,
  RESERVED,
  slice,
  windowsFiles,
  windowsStore,
} from './parts'

const DISK = '3e7ad5c0-81f6-4b29-96d4-0c52f8b7a913'

/** The cutting room's disk: a system of its own, and a partition that was prepared for another one. */
export async function makeCuttingRoomDisk(device: BlockDevice): Promise<void> {
  const [esp, , system, grade] = await layOut(device, DISK, [
    ESP('f2960b7d-4ae8-4c13-b05f-7d81e3c6a924', 260),
    RESERVED('5b18c4fe-70d9-4e62-a3b7-96f0d25c8e41'),
    BASIC_DATA('a94d27e3-f605-4b8c-8d12-3e7fb0c951a6', 520 * 1024),
    BASIC_DATA('0c73f8b5-29ad-4d1e-97e6-b4a85f1d3c20'),
  ])
  await fillEsp(
    device,
    esp,
    0x2c91e7b4,
    noise(1_590_000, 1010),
    windowsStore('61f4ae09-d37b-4c85-9a20-e8b51d7c36f0', inGpt(DISK, esp), inGpt(DISK, system), 'Windows 11'),
  )
  await fillNtfs(device, system, 'Cutting room', 0x86d1_b05e_3f7c_924an, [
    ...windowsFiles({
      at: inGpt(DISK, system),
      product: 'Windows 11 Pro',
      build: '22631',
      release: '23H2',
      seed: 1015,
      pageMib: 4096,
    }),
    ...customerFiles(['/Cuts/2025', '/Cuts/2026', '/Sound'], 214 * GIB, {
      seed: 371,
      extension: 'mov',
      largestMib: 2400,
      scatteredBytes: 20 * GIB,
    }),
  ])
  await formatExfat(slice(device, grade), { label: 'GRADE', serial: 0x8e30d15c, startSector: grade.firstLba })
}
