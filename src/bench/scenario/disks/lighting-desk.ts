import type { BlockDevice } from '@/core/block/device'
import type { LostRun } from '@/core/block/faulty'
import { GIB, MIB } from '@/core/bytes/size'
import { mbrWrites } from '@/core/scheme/mbr-write'
import { MBR_TYPES } from '@/core/scheme/mbr-layout'
import { noise } from '../../random'
import { customerFiles, fillNtfs, sectors, text, windowsFiles, windowsStore } from './parts'

const SIGNATURE = '7b3f0c11'
const RESERVED_MIB = 350
const SYSTEM_MIB = 180 * 1024
/** C: was once put at the beginning of a cylinder, as older tools did: so far behind the end of the first partition. */
const CYLINDER = 255 * 63
const BEHIND = Math.ceil(sectors(1 + RESERVED_MIB) / CYLINDER) * CYLINDER - sectors(1 + RESERVED_MIB)
/** Files alone take this much of C:, so that with the volume's own records it is the scenario's 96 GiB. */
const SYSTEM_FILES_BYTES = 96 * GIB

/** Where the puppet theatre's drive no longer reads: 41 sectors in the shows and in the recordings. */
export const LIGHTING_DESK_LOST: readonly LostRun[] = [
  { firstLba: BEHIND + sectors(52_000) + 1_280, count: 23 },
  { firstLba: BEHIND + sectors(71_400) + 96, count: 6 },
  { firstLba: BEHIND + sectors(1 + RESERVED_MIB + SYSTEM_MIB + 1 + 9_000) + 512, count: 12 },
]

/**
 * The puppet theatre's disk: MBR with an active system-reserved partition, C: with a Windows 7 that starts by BIOS,
 * and D: "Shows" as a logical partition.
 */
export async function makeLightingDeskDisk(device: BlockDevice): Promise<void> {
  const reserved = { firstLba: 2048, lastLba: 2048 + sectors(RESERVED_MIB) - 1 }
  const first = reserved.lastLba + 1 + BEHIND
  const system = { firstLba: first, lastLba: first + sectors(SYSTEM_MIB) - 1 }
  const extendedFirst = system.lastLba + 1
  const end = Math.floor(device.size / 512 / 2048) * 2048
  const shows = { firstLba: extendedFirst + 2048, lastLba: end - 1 }
  const inMbr = (p: { firstLba: number }) => ({
    scheme: 'mbr' as const,
    signature: SIGNATURE,
    offset: p.firstLba * 512,
  })
  const length = (p: { firstLba: number; lastLba: number }) => p.lastLba - p.firstLba + 1
  const writes = mbrWrites(
    {
      diskSignature: SIGNATURE,
      bootCode: noise(440, 700),
      primary: [
        { type: MBR_TYPES.ntfs, firstLba: reserved.firstLba, sectors: length(reserved), active: true },
        { type: MBR_TYPES.ntfs, firstLba: system.firstLba, sectors: length(system) },
      ],
      extended: {
        firstLba: extendedFirst,
        sectors: end - extendedFirst,
        logical: [{ type: MBR_TYPES.ntfs, recordLba: extendedFirst, firstLba: shows.firstLba, sectors: length(shows) }],
      },
    },
    512,
  )
  for (const { offset, bytes } of writes) await device.write(offset, bytes)
  await fillNtfs(device, reserved, 'System Reserved', 0x4ad0_73b1_c82e_5f09n, [
    { path: '/bootmgr', content: noise(383_786, 710) },
    {
      path: '/Boot/BCD',
      content: windowsStore('eb17f905-a263-4c54-9f81-7092b3d45e6f', inMbr(reserved), inMbr(system), 'Windows 7'),
    },
    { path: '/Boot/memtest.exe', content: noise(485_760, 712) },
  ])
  await fillNtfs(device, system, 'Lighting', 0xe01c_95d7_4a62_b83fn, [
    ...windowsFiles({
      at: inMbr(system),
      product: 'Windows 7 Professional',
      build: '7601',
      loader: 'winload.exe',
      seed: 720,
      pageMib: 4096,
    }),
    { path: '/Program Files/Quayside Light/cues.ini', content: text('[dimmer]\r\nchannels=96\r\n') },
    ...customerFiles(['/Recordings', '/Users/stage/Videos', '/Sound'], SYSTEM_FILES_BYTES - 4096 * MIB, {
      seed: 321,
      extension: 'wav',
      largestMib: 2600,
      scatteredBytes: 30 * GIB,
    }),
  ])
  await fillNtfs(
    device,
    shows,
    'Shows',
    0x17f4_0b6c_99e3_d25an,
    customerFiles(['/The fisherman', '/Three lanterns', '/Harbour mice'], 41 * GIB, {
      seed: 322,
      extension: 'show',
      largestMib: 900,
      scatteredBytes: 6 * GIB,
    }),
  )
}
