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

const DISK = '83e5c1b9-4f06-4d27-9a8c-d07b62e5f341'

/** The boat surveyor's disk, which moves to a computer with another storage controller. */
export async function makeSurveyOfficeDisk(device: BlockDevice): Promise<void> {
  const [esp, , system, recovery] = await layOut(device, DISK, [
    ESP('d91a60f3-8e25-4cb7-a4d8-1f7c053be962'),
    RESERVED('07f8c2d5-b149-4e6a-8c93-5a0de7f1643b'),
    BASIC_DATA('b5e07d84-2c9a-4163-95fd-e3c8a1067f2d'),
    RECOVERY('4ac9f16b-d370-4258-8be1-6f5d20c7e934', 530),
  ])
  await fillEsp(
    device,
    esp,
    0x0f5d82c6,
    noise(1_450_000, 980),
    windowsStore('a7d3b5c1-6e2f-4810-9b4d-3c5e7f901a2b', inGpt(DISK, esp), inGpt(DISK, system), 'Windows 10'),
  )
  await fillNtfs(device, system, 'Hulls', 0xc16d_f842_059b_7e3an, [
    ...windowsFiles({
      at: inGpt(DISK, system),
      product: 'Windows 10 Pro',
      build: '19044',
      release: '21H2',
      seed: 985,
      pageMib: 3072,
      hibernation: { mib: 3200, asleep: false },
      met: {
        devices: [
          { id: 'VEN_1B5A&DEV_0612', name: 'Brezza SATA controller', service: 'storahci' },
          { id: 'VEN_1B5A&DEV_8168', name: 'Brezza network card', service: 'brznet' },
          { id: 'VEN_1B5A&DEV_1912', name: 'Brezza graphics', service: 'brzgfx' },
          { id: 'VEN_1B5A&DEV_A170', name: 'Brezza sound', service: 'brzsound' },
        ],
        addresses: { '{4c1f7f52-7a31-4f0e-9b12-6d2ac0e5b931}': '192.168.7.31' },
      },
    }),
    ...customerFiles(['/Surveys/2023', '/Surveys/2024', '/Surveys/2025', '/Photographs'], 61 * GIB, {
      seed: 351,
      extension: 'pdf',
      largestMib: 700,
      scatteredBytes: 9 * GIB,
    }),
  ])
  await fillNtfs(device, recovery, 'Recovery', 0x70b4_29ed_d8f6_c513n, [
    { path: '/Recovery/WindowsRE/Winre.wim', unwrittenBytes: 400 * MIB },
  ])
}
