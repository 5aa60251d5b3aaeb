import { existsSync } from 'node:fs'
import path from 'node:path'
import type { BlockDevice } from '@/core/block/device'
import { MemoryDevice } from '@/core/block/memory'
import { GIB, MIB } from '@/core/bytes/size'
import { formatFat32 } from '@/core/filesystem/fat/format'
import { planImage } from '@/core/copy/plan-whole'
import type { TargetKind } from '@/core/image'
import { makeInf } from '@/core/drivers/make'
import { MBR_TYPES } from '@/core/scheme/mbr-layout'
import { mbrWrites } from '@/core/scheme/mbr-write'
import { writeImage } from '@/host/write-image'
import { noise } from '../random'
import { makeDamagedDisk } from './disks/shop'
import { makeSurveyOfficeDisk } from './disks/survey-office'
import { slice, text } from './disks/parts'
import { capacityOf } from '@/core/things/capacity'
import { SCENARIO_START } from './things'

interface ScenarioImage {
  readonly name: string
  readonly to: TargetKind
  readonly sizeBytes: number
  readonly make: (device: BlockDevice) => Promise<void>
}

const IMAGES: readonly ScenarioImage[] = [
  { name: 'survey office 3 May.vhdx', to: 'vhdx', sizeBytes: capacityOf(128), make: makeSurveyOfficeDisk },
  { name: 'kiosk, table damaged.img', to: 'raw', sizeBytes: 4 * GIB, make: makeDamagedDisk },
  { name: 'rescue stick.qcow2', to: 'qcow2', sizeBytes: 8 * GIB, make: makeStick },
]

/** The names of the scenario's images. */
export const SCENARIO_IMAGES: readonly string[] = IMAGES.map(({ name }) => name)

/** Writes the scenario's images into a folder; those whose names are taken are left out. */
export async function makeScenarioImages(folder: string): Promise<void> {
  for (const { name, to, sizeBytes, make } of IMAGES) {
    const file = path.join(/* turbopackIgnore: true */ folder, name)
    if (existsSync(/* turbopackIgnore: true */ file)) continue
    const device = new MemoryDevice(sizeBytes)
    await make(device)
    const plan = await planImage(device, { stored: true })
    await writeImage(plan, file, { to, note: name, work: '', time: SCENARIO_START, onStep: async () => {} })
  }
}

/** The drivers that the Tramonto T9's maker gives out: for its storage controller, and for its network card. */
const T9_DRIVER = {
  kind: 'storage' as const,
  provider: 'Tramonto',
  name: 'Tramonto ST9 storage controller',
  service: 'trmst9',
  hardwareIds: ['PCI\\VEN_1F5C&DEV_09A1', 'PCI\\VEN_1F5C&DEV_09A2'],
  date: '03/11/2025',
  version: '2.4.1.0',
}

const T9_NETWORK = {
  kind: 'network' as const,
  provider: 'Tramonto',
  name: 'Tramonto NE9 network card',
  service: 'trmne9',
  hardwareIds: ['PCI\\VEN_1F5C&DEV_2201', 'PCI\\VEN_1F5C&DEV_2202'],
  date: '07/02/2025',
  version: '1.9.0.3',
}

/** The shop's rescue stick: an MBR with one FAT32 that firmware starts from. */
async function makeStick(device: BlockDevice): Promise<void> {
  const part = { firstLba: 2048, lastLba: device.size / 512 - 1 }
  const table = {
    diskSignature: '51ab7e20',
    primary: [{ type: MBR_TYPES.fat32Lba, firstLba: 2048, sectors: part.lastLba - 2047, active: true }],
  }
  for (const { offset, bytes } of mbrWrites(table, 512)) await device.write(offset, bytes)
  await formatFat32(slice(device, part), {
    label: 'RESCUE',
    serial: 0x4e1b93d6,
    startSector: 2048,
    files: [
      { path: '/EFI/BOOT/BOOTX64.EFI', content: noise(1_200_000, 1010) },
      { path: '/rescue/kernel', content: noise(6 * MIB, 1011) },
      { path: '/drivers/Tramonto T9/storage/trmst9.inf', content: text(makeInf(T9_DRIVER)) },
      { path: '/drivers/Tramonto T9/storage/trmst9.sys', content: noise(184_000, 1012) },
      { path: '/drivers/Tramonto T9/storage/trmst9.cat', content: noise(9_400, 1013) },
      { path: '/drivers/Tramonto T9/network/trmne9.inf', content: text(makeInf(T9_NETWORK)) },
      { path: '/drivers/Tramonto T9/network/trmne9.sys', content: noise(96_000, 1014) },
      { path: '/drivers/Tramonto T9/network/trmne9.cat', content: noise(8_100, 1015) },
      {
        path: '/rescue/read me.txt',
        content: text('Start from this stick with F11. Nothing on the computer is changed by it.\r\n'),
      },
    ],
  })
}
