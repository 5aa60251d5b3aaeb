import type { BlockDevice } from '@/core/block/device'
import { GIB, MIB } from '@/core/bytes/size'
import { MBR_TYPES } from '@/core/scheme/mbr-layout'
import { mbrWrites } from '@/core/scheme/mbr-write'
import { noise } from '../../random'
import { BASIC_DATA, customerFiles, fillNtfs, layOut, RESERVED, sectors, text } from './parts'

/** The shop's transfer drive, with what was left on it. */
export async function makeTransferDisk(device: BlockDevice): Promise<void> {
  const [, volume] = await layOut(device, '9f27d0c8-5e13-4ab6-8d74-20f6b9e5c1a3', [
    RESERVED('c60e8f9d-1a74-4b52-97d8-e4350bfa2c61'),
    BASIC_DATA('2d7b41e5-f960-4c8a-b23e-8105dc97f6a4'),
  ])
  await fillNtfs(device, volume, 'Transfer', 0x38fd_c165_a70e_924bn, [
    { path: '/read me.txt', content: text('Molo Sette, Porto Salvia. Nothing here is kept.\r\n') },
    ...customerFiles(['/Marina office'], 212 * GIB, { seed: 361, extension: 'part', largestMib: 8000 }),
  ])
}

/** The choir's old drive on the shelf: an MBR from before partitions were aligned. */
export async function makeChoirDisk(device: BlockDevice): Promise<void> {
  const total = Math.floor(device.size / 512)
  const volume = { firstLba: 63, lastLba: total - 63 - 1 }
  const table = {
    diskSignature: 'd05e41a7',
    bootCode: noise(440, 990),
    primary: [{ type: MBR_TYPES.ntfs, firstLba: 63, sectors: volume.lastLba - 62, active: true }],
  }
  for (const { offset, bytes } of mbrWrites(table, 512)) await device.write(offset, bytes)
  await fillNtfs(
    device,
    volume,
    'Choir',
    0xf391_6c0d_4be8_a752n,
    customerFiles(['/Scores', '/Recordings 2015', '/Recordings 2019'], 131 * GIB, {
      seed: 362,
      extension: 'flac',
      largestMib: 500,
      scatteredBytes: 14 * GIB,
    }),
  )
}

/** A small disk whose table was damaged: its first copy fails its checksum. */
export async function makeDamagedDisk(device: BlockDevice): Promise<void> {
  const [, , left] = await layOut(device, '5d04f7a1-c83e-4926-b1f5-907ae2d6c83b', [
    RESERVED('8be1c0f4-3d97-4a52-a6d8-12f9c7e05b36'),
    BASIC_DATA('e92d57c0-6a4f-4183-9b0e-d5f783c1a264', 600),
    BASIC_DATA('17a9f3e8-d05b-4c64-82f7-b03d9ec5f168'),
  ])
  await fillNtfs(device, { firstLba: sectors(17), lastLba: sectors(617) - 1 }, 'Kiosk', 0x1e7d_b490_c35f_a268n, [
    { path: '/Timetable/summer.txt', content: text('08:10 Isola Lunga\r\n09:40 Isola Lunga\r\n') },
    { path: '/Timetable/film.mp4', unwrittenBytes: 260 * MIB, fragments: 5 },
  ])
  await fillNtfs(device, left, 'Kiosk data', 0x9c20_58e6_f1bd_7a43n, [
    { path: '/tickets.db', unwrittenBytes: 90 * MIB, fragments: 3 },
  ])
  const sector = new Uint8Array(512)
  await device.read(512, sector)
  sector[24] ^= 0x40
  await device.write(512, sector)
}
