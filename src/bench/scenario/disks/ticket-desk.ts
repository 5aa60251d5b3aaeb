import type { BlockDevice } from '@/core/block/device'
import type { StoreDevice } from '@/core/boot/store'
import { GIB, MIB } from '@/core/bytes/size'
import { formatFat32 } from '@/core/filesystem/fat/format'
import type { NewFile } from '@/core/filesystem/new-files'
import type { GptPartition } from '@/core/scheme/types'
import { noise, seeded } from '../../random'
import {
  BASIC_DATA,
  ESP,
  fillNtfs,
  inGpt,
  layOut,
  RECOVERY,
  RESERVED,
  slice,
  systemLoader,
  text,
  windowsFiles,
  windowsStore,
} from './parts'

/** Identities on the museum's drive; the firmware's boot entry names the first. */
export const TICKET_DESK_ESP = '7c1e4b02-95d3-4f27-b1c8-2e60d9f3a204'
const DISK = '91f0a6d8-73c4-4e19-b250-d8a94e1733c7'
export const TICKET_DESK_SYSTEM = '5d20c9a1-47e6-4b8f-9d35-81f0c6a2e81b'

/** What is used on C: when all is written: the scenario's 201 GiB and a little. */
const USED_BYTES = Math.floor(201.4 * GIB)
/** Free clusters spread between the files. */
const SCATTERED_FREE_BYTES = 12 * GIB
const PAGE_MIB = 2432

/**
 * Writes the ticket desk's disk: GPT, ESP with its loaders, reserved partition, the system volume "Harbour"
 * with some hundred system files and the museum's collection as clusters that were never written, and the
 * recovery partition that stands in the way of growing. Takes the whole device.
 */
export async function makeTicketDeskDisk(device: BlockDevice): Promise<void> {
  const [esp, , system, recovery] = await layOut(device, DISK, [
    ESP(TICKET_DESK_ESP),
    RESERVED('3ab7e915-6c02-4d1e-8f44-90d5b7c1203d'),
    BASIC_DATA(TICKET_DESK_SYSTEM),
    RECOVERY('e4f01d76-2b93-4a58-a6c7-5c3e8d90b1f2', 650),
  ])
  await formatFat32(slice(device, esp), {
    label: 'SYSTEM',
    serial: 0x6a1f20c4,
    startSector: esp.firstLba,
    files: espFiles(
      systemLoader(noise(1_548_288, 11)),
      windowsStore('c2a4e6f8-1b3d-4a5c-8e7f-9d0b2c4e6a81', inGpt(DISK, esp), inGpt(DISK, system), 'Windows 10'),
    ),
  })
  await fillNtfs(device, system, 'Harbour', 0x9c3e51a07b24d8f6n, [
    ...systemFiles(inGpt(DISK, system)),
    ...museumFiles(system),
  ])
  await fillNtfs(device, recovery, 'Recovery', 0x21b07f4e88d3c905n, [
    { path: '/Recovery/WindowsRE/ReAgent.xml', content: text('<WindowsRE version="2.0"/>\r\n') },
    { path: '/Recovery/WindowsRE/boot.sdi', content: noise(316_000, 21) },
    { path: '/Recovery/WindowsRE/Winre.wim', unwrittenBytes: 465 * MIB, fragments: 3 },
  ])
}

function espFiles(loader: Uint8Array, store: Uint8Array): NewFile[] {
  return [
    { path: '/EFI/Microsoft/Boot/bootmgfw.efi', content: loader },
    { path: '/EFI/Microsoft/Boot/BCD', content: store },
    { path: '/EFI/Microsoft/Boot/memtest.efi', content: noise(960_000, 12) },
    { path: '/EFI/Microsoft/Boot/en-US/bootmgfw.efi.mui', content: noise(76_000, 13) },
    { path: '/EFI/Microsoft/Boot/Fonts/wgl4_boot.ttf', content: noise(49_000, 14) },
    { path: '/EFI/BOOT/BOOTX64.EFI', content: loader },
  ]
}

/** System files with contents: what a start reads, drivers, settings; and the page file, which is never written here. */
function systemFiles(at: StoreDevice): NewFile[] {
  const files: NewFile[] = [
    ...windowsFiles({ at, product: 'Windows 10 Pro', build: '19045', release: '22H2', seed: 31, pageMib: PAGE_MIB }),
    { path: '/Windows/win.ini', content: text('; for 16-bit app support\r\n[fonts]\r\n[extensions]\r\n') },
    { path: '/Windows/System32/drivers/etc/hosts', content: text('127.0.0.1 localhost\r\n') },
  ]
  for (let i = 0; i < 90; i++) {
    files.push({
      path: `/Windows/Fonts/face${String(i).padStart(2, '0')}.ttf`,
      content: noise(700 + ((i * 431) % 5_000), 300 + i),
    })
  }
  for (let i = 0; i < 60; i++) {
    const path = `/Program Files/Lanterna Tickets/Templates/ticket ${String(i + 1).padStart(2, '0')}.xml`
    files.push({
      path,
      content: text(
        `<ticket number="${i + 1}" hall="${(i % 4) + 1}"><price currency="EUR">${6 + (i % 5)}</price></ticket>\r\n`,
      ),
    })
  }
  return files
}

/** The museum's own files: clusters that are taken but were never written, laid out as years of use leave them. */
function museumFiles(system: GptPartition): NewFile[] {
  const next = seeded(2026)
  const folders = ['Collection scans', 'Ticket archive', 'Hall recordings', 'Exhibition plans', 'Shop accounts']
  const volumeBytes = (system.lastLba - system.firstLba + 1) * 512
  // Records of the volume itself and of the system files; what is left is the museum's.
  const own = Math.ceil(volumeBytes / 4096 / 8) + (14 + PAGE_MIB) * MIB
  const files: NewFile[] = []
  let left = USED_BYTES - own
  let free = SCATTERED_FREE_BYTES
  for (let i = 0; left > 0; i++) {
    const folder = folders[i % folders.length]
    const year = 2019 + (i % 8)
    const size = Math.min(left, Math.floor((0.3 + next() * next() * 4.2) * GIB))
    // Clearing out has left holes here and there, wider towards the end of the volume.
    const hole = next() < 0.4 ? Math.min(free, Math.floor(next() * next() * 1.6 * GIB)) : 0
    free -= hole
    left -= size
    files.push({
      path: `/Museum/${folder}/${year}/${folder.split(' ')[0].toLowerCase()} ${String(i + 1).padStart(4, '0')}.dat`,
      unwrittenBytes: size,
      fragments: next() < 0.3 ? 2 + Math.floor(next() * 14) : 1,
      gap: Math.floor(hole / 4096),
    })
  }
  // One file in very many pieces: its list of runs does not fit its record.
  files.push({ path: '/Museum/Ticket archive/tickets.mdb', unwrittenBytes: 96 * MIB, fragments: 240 })
  return files
}
