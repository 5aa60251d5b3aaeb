import type { BlockDevice } from '@/core/block/device'
import { SliceDevice } from '@/core/block/slice'
import { GIB, MIB } from '@/core/bytes/size'
import { formatFat32 } from '@/core/filesystem/fat/format'
import type { NewFile } from '@/core/filesystem/new-files'
import { formatNtfs } from '@/core/filesystem/ntfs/format'
import { usableRange, writeGpt } from '@/core/scheme/gpt'
import { type GptPartition, type GptTable, TYPE_GUIDS } from '@/core/scheme/types'
import { noise, seeded } from '../random'

/** Identities on the museum's drive; the firmware's boot entry names the first. */
export const TICKET_DESK_ESP = '7c1e4b02-95d3-4f27-b1c8-2e60d9f3a204'
export const TICKET_DESK_SYSTEM = '5d20c9a1-47e6-4b8f-9d35-81f0c6a2e81b'
const RESERVED = '3ab7e915-6c02-4d1e-8f44-90d5b7c1203d'
const RECOVERY = 'e4f01d76-2b93-4a58-a6c7-5c3e8d90b1f2'
const DISK = '91f0a6d8-73c4-4e19-b250-d8a94e1733c7'

/** FILETIME of 3 March 2026, 08:00 UTC: when the desk was last serviced. */
const TIME = 134_169_120_000_000_000n
const NO_LETTER = '8000000000000001'
/** What is used on C: when all is written: the scenario's 201 GiB and a little. */
const USED_BYTES = Math.floor(201.4 * GIB)
/** Free clusters spread between the files. */
const SCATTERED_FREE_BYTES = 12 * GIB

/**
 * Writes the ticket desk's disk: GPT, ESP with its loaders, reserved partition, the system volume "Harbour"
 * with some hundred system files and the museum's collection as clusters that were never written, and the
 * recovery partition that stands in the way of growing. Takes the whole device.
 */
export async function makeTicketDeskDisk(device: BlockDevice): Promise<void> {
  const table = ticketDeskTable(device.size)
  await writeGpt(device, table)
  const [esp, , system, recovery] = table.partitions
  const loader = noise(1_548_288, 11)
  await formatFat32(slice(device, esp), {
    label: 'SYSTEM',
    serial: 0x6a1f20c4,
    startSector: esp.firstLba,
    files: espFiles(loader),
  })
  const files = [...systemFiles(), ...museumFiles(system)]
  await formatNtfs(slice(device, system), {
    label: 'Harbour',
    serial: 0x9c3e51a07b24d8f6n,
    startSector: system.firstLba,
    time: TIME,
    files,
  })
  await formatNtfs(slice(device, recovery), {
    label: 'Recovery',
    serial: 0x21b07f4e88d3c905n,
    startSector: recovery.firstLba,
    time: TIME,
    files: [
      { path: '/Recovery/WindowsRE/ReAgent.xml', content: text('<WindowsRE version="2.0"/>\r\n') },
      { path: '/Recovery/WindowsRE/boot.sdi', content: noise(316_000, 21) },
      { path: '/Recovery/WindowsRE/Winre.wim', unwrittenBytes: 465 * MIB, fragments: 3 },
    ],
  })
}

function ticketDeskTable(sizeBytes: number): GptTable {
  const sectors = (mib: number) => (mib * MIB) / 512
  const { lastLba } = usableRange(sizeBytes, 512)
  const recoveryStart = Math.floor((lastLba + 1 - sectors(650)) / 2048) * 2048
  const entry = (
    number: number,
    typeGuid: string,
    guid: string,
    name: string,
    firstLba: number,
    length: number,
    attributes: string,
  ) => ({
    number,
    typeGuid,
    guid,
    name,
    firstLba,
    lastLba: firstLba + length - 1,
    attributes,
  })
  const partitions: GptPartition[] = [
    entry(1, TYPE_GUIDS.efiSystem, TICKET_DESK_ESP, 'EFI system partition', sectors(1), sectors(100), NO_LETTER),
    entry(2, TYPE_GUIDS.reserved, RESERVED, 'Microsoft reserved partition', sectors(101), sectors(16), NO_LETTER),
    entry(
      3,
      TYPE_GUIDS.basicData,
      TICKET_DESK_SYSTEM,
      'Basic data partition',
      sectors(117),
      recoveryStart - sectors(117),
      '0000000000000000',
    ),
    entry(4, TYPE_GUIDS.recovery, RECOVERY, '', recoveryStart, sectors(650), NO_LETTER),
  ]
  return { diskGuid: DISK, entryCount: 128, entrySize: 128, partitions }
}

function espFiles(loader: Uint8Array): NewFile[] {
  return [
    { path: '/EFI/Microsoft/Boot/bootmgfw.efi', content: loader },
    { path: '/EFI/Microsoft/Boot/memtest.efi', content: noise(960_000, 12) },
    { path: '/EFI/Microsoft/Boot/en-US/bootmgfw.efi.mui', content: noise(76_000, 13) },
    { path: '/EFI/Microsoft/Boot/Fonts/wgl4_boot.ttf', content: noise(49_000, 14) },
    { path: '/EFI/BOOT/BOOTX64.EFI', content: loader },
  ]
}

/** System files with contents: what a start reads, drivers, settings. */
function systemFiles(): NewFile[] {
  const files: NewFile[] = [
    { path: '/Windows/System32/winload.efi', content: noise(1_712_640, 31) },
    { path: '/Windows/System32/ntoskrnl.exe', content: noise(900_000, 32) },
    { path: '/Windows/System32/hal.dll', content: noise(24_000, 33) },
    { path: '/Windows/win.ini', content: text('; for 16-bit app support\r\n[fonts]\r\n[extensions]\r\n') },
    { path: '/Windows/System32/drivers/etc/hosts', content: text('127.0.0.1 localhost\r\n') },
  ]
  const drivers = [
    'disk',
    'partmgr',
    'storahci',
    'stornvme',
    'volmgr',
    'mountmgr',
    'ntfs',
    'usbxhci',
    'usbstor',
    'kbdhid',
  ]
  drivers.forEach((name, i) =>
    files.push({ path: `/Windows/System32/drivers/${name}.sys`, content: noise(6_000 + i * 700, 40 + i) }),
  )
  for (let i = 0; i < 140; i++) {
    const name = `component-${String(i).padStart(3, '0')}`
    files.push({ path: `/Windows/System32/${name}.dll`, content: noise(1_500 + ((i * 977) % 9_000), 100 + i) })
  }
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
  const own = Math.ceil(volumeBytes / 4096 / 8) + 14 * MIB
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

function slice(device: BlockDevice, { firstLba, lastLba }: GptPartition): SliceDevice {
  return new SliceDevice(device, firstLba * 512, (lastLba - firstLba + 1) * 512)
}

function text(value: string): Uint8Array {
  return new TextEncoder().encode(value)
}
