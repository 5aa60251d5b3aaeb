import type { BlockDevice } from '@/core/block/device'
import { GIB, MIB } from '@/core/bytes/size'
import { formatHfsPlus } from '@/core/filesystem/hfsplus/format'
import type { NewFile } from '@/core/filesystem/new-files'
import { TYPE_GUIDS } from '@/core/scheme/types'
import { noise } from '../../random'
import {
  BASIC_DATA,
  customerFiles,
  ESP,
  fillEsp,
  fillNtfs,
  inGpt,
  layOut,
  slice,
  text,
  windowsFiles,
  windowsStore,
} from './parts'

const DISK = '0d8a64f1-2b97-4ec3-85d0-f61c39a7e25b'

/** Seconds from 1904 to 3 March 2026, 08:00 UTC. */
const TIME = 3_855_369_600

/** The film society's disk: macOS on HFS+ and Windows on NTFS side by side. */
export async function makeEditingDisk(device: BlockDevice): Promise<void> {
  const apple = (typeGuid: string, guid: string, name: string, mib: number) => ({ typeGuid, guid, name, mib })
  const [esp, montage, boot, windows] = await layOut(device, DISK, [
    ESP('c83f5e20-7da6-4194-b0e8-29a5d71c6f4b', 200),
    apple(TYPE_GUIDS.appleHfs, '94d2b7e6-0c58-4fa1-9d37-e6810b5fc23a', 'Montage', 150 * 1024),
    apple(TYPE_GUIDS.appleBoot, '2fe90c84-b61d-4735-a8f2-05c9d7e43b16', 'Recovery HD', 620),
    BASIC_DATA('6b13d5a9-e04f-4872-9c60-8da7f2b51ec4'),
  ])
  await fillEsp(
    device,
    esp,
    0x7de3a05b,
    noise(1_300_000, 950),
    windowsStore('da06e8f4-9152-4b43-8e70-6f81a2c34d5e', inGpt(DISK, esp), inGpt(DISK, windows), 'Windows 10'),
  )
  await formatHfsPlus(slice(device, montage), {
    label: 'Montage',
    volumeId: 0x3d1e_90b7_c56a_f248n,
    time: TIME,
    systemFolder: '/System/Library/CoreServices',
    files: [
      ...macosFiles('10.13.6', '17G14042'),
      ...customerFiles(['/Users/film/Rushes', '/Users/film/Cuts'], 88 * GIB, {
        seed: 341,
        extension: 'mov',
        largestMib: 3000,
      }),
    ],
  })
  await formatHfsPlus(slice(device, boot), {
    label: 'Recovery HD',
    volumeId: 0xa07c_4e15_82d9_b36fn,
    time: TIME,
    files: [
      { path: '/com.apple.recovery.boot/boot.efi', content: noise(600_000, 951) },
      { path: '/com.apple.recovery.boot/BaseSystem.dmg', unwrittenBytes: 480 * MIB },
    ],
  })
  await fillNtfs(device, windows, 'Grading', 0x5b8e_d203_f96c_17a4n, [
    ...windowsFiles({
      controller: 'NVMe',
      at: inGpt(DISK, windows),
      product: 'Windows 10 Pro',
      build: '19045',
      release: '22H2',
      seed: 960,
      pageMib: 5120,
      hibernation: { mib: 6400, asleep: true },
    }),
    ...customerFiles(['/Grading/Projects', '/Grading/Cache'], 36 * GIB, {
      seed: 342,
      extension: 'drx',
      largestMib: 1200,
      scatteredBytes: 8 * GIB,
    }),
  ])
}

function macosFiles(version: string, build: string): NewFile[] {
  const plist = `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0">
<dict>
	<key>ProductBuildVersion</key>
	<string>${build}</string>
	<key>ProductName</key>
	<string>macOS</string>
	<key>ProductVersion</key>
	<string>${version}</string>
</dict>
</plist>
`
  return [
    { path: '/System/Library/CoreServices/SystemVersion.plist', content: text(plist) },
    { path: '/System/Library/CoreServices/boot.efi', content: noise(612_000, 952) },
    { path: '/System/Library/Kernels/kernel', content: noise(1_100_000, 953) },
    { path: '/private/var/vm/sleepimage', unwrittenBytes: 2048 * MIB },
    ...Array.from({ length: 120 }, (_, i) => ({
      path: `/System/Library/Extensions/Part${String(i).padStart(3, '0')}.kext/Contents/Info.plist`,
      content: text(plist),
    })),
  ]
}
