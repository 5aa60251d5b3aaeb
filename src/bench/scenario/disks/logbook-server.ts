import type { BlockDevice } from '@/core/block/device'
import { GIB } from '@/core/bytes/size'
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

const DISK = 'b2c50e77-1d84-4f0a-9c36-6e8a21f4d905'

/** The pilot office's first drive: the server's system and the "Charts" volume behind it. */
export async function makeLogbookSystemDisk(device: BlockDevice): Promise<void> {
  const [esp, , recovery, system, charts] = await layOut(device, DISK, [
    ESP('3e8b71c4-52da-4906-a7f1-0c94e6d83b51', 200),
    RESERVED('9d06f2a8-c741-4e3b-8b15-f27a50d9e6c4'),
    RECOVERY('5fa1c83d-08e6-4b72-9d4f-a36b17e0c982', 500),
    BASIC_DATA('c47e90b5-6f32-4d18-a05c-8e21b3f7d964', 160 * 1024),
    BASIC_DATA('0b95d3e6-a8c1-4f74-92e0-57d6c18fa34b'),
  ])
  await fillEsp(
    device,
    esp,
    0x51b0c7e2,
    noise(1_400_000, 800),
    windowsStore('c9f5d7e3-8041-4a32-9d6f-5e7091b23c4d', inGpt(DISK, esp), inGpt(DISK, system), 'Windows Server'),
  )
  await fillNtfs(device, recovery, 'Recovery', 0x6d2c_08fa_b517_e943n, [
    { path: '/Recovery/WindowsRE/Winre.wim', unwrittenBytes: 340 * 1024 * 1024 },
  ])
  await fillNtfs(device, system, 'Bridge', 0x8fe3_41d0_762b_c95an, [
    ...windowsFiles({
      at: inGpt(DISK, system),
      product: 'Windows Server 2019 Standard',
      build: '17763',
      release: '1809',
      seed: 810,
      pageMib: 8192,
      met: {
        devices: [
          { id: 'VEN_1D3F&DEV_0906', name: 'Tramonto storage controller', service: 'storahci' },
          { id: 'VEN_1D3F&DEV_1533', name: 'Tramonto network card', service: 'trmnet' },
          { id: 'VEN_1D3F&DEV_1534', name: 'Tramonto network card 2', service: 'trmnet' },
          { id: 'VEN_1D3F&DEV_0538', name: 'Tramonto remote console', service: 'trmcon' },
        ],
        addresses: { '{9d2e7a40-3b6f-4c15-8a91-f05c7be4d382}': '192.168.7.20' },
      },
    }),
    ...customerFiles(['/Logbook/Archive', '/Logbook/Backups', '/ProgramData/Pilotage'], 52 * GIB, {
      seed: 331,
      extension: 'log',
      largestMib: 1800,
      scatteredBytes: 12 * GIB,
    }),
  ])
  await fillNtfs(
    device,
    charts,
    'Charts',
    0x23d9_7ab4_10ce_865fn,
    customerFiles(['/Approaches', '/Harbour plans', '/Soundings'], 118 * GIB, {
      seed: 332,
      extension: 'tif',
      largestMib: 1400,
      scatteredBytes: 20 * GIB,
    }),
  )
}

/** The pilot office's second drive: the "Archive" volume alone. */
export async function makeLogbookArchiveDisk(device: BlockDevice): Promise<void> {
  const [, archive] = await layOut(device, '46d1f90b-7c3e-4a85-b62d-e9053ac8174f', [
    RESERVED('d8f34a10-95be-4c67-81d2-3b7e0f59a6c8'),
    BASIC_DATA('71c6e8d2-3a0f-4b95-9e47-c05d82f1b63a'),
  ])
  await fillNtfs(
    device,
    archive,
    'Archive',
    0xb806_5ed1_f73c_924an,
    customerFiles(['/1998', '/2006', '/2014', '/2022'], 387 * GIB, {
      seed: 333,
      extension: 'dat',
      largestMib: 4000,
      scatteredBytes: 60 * GIB,
    }),
  )
}
