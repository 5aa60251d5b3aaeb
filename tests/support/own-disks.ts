import { execFileSync } from 'node:child_process'
import { mkdirSync, mkdtempSync, rmSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'

// Disks as somebody brings them along, made by programs that share no code with Imbarco.

const MIB = 2 ** 20
const run = (program: string, ...args: string[]) => execFileSync(program, args, { stdio: 'pipe', encoding: 'utf8' })

/** Files that every disk holds on its volume for data, by path. */
export const OWN_FILES: Readonly<Record<string, string>> = {
  'letters/to the harbour office.txt': 'Berth 7 is free from Monday.\n'.repeat(400),
  'photographs/quay.raw': 'shades of grey '.repeat(60_000),
  'notes.txt': 'tide tables are in the drawer\n',
}

/** A folder with these files in it. */
function folderWith(folder: string, files: Readonly<Record<string, string>>): string {
  for (const [name, text] of Object.entries(files)) {
    const file = path.join(folder, name)
    mkdirSync(path.dirname(file), { recursive: true })
    writeFileSync(file, text)
  }
  return folder
}

function blank(file: string, sizeBytes: number): string {
  writeFileSync(file, '')
  truncateSync(file, sizeBytes)
  return file
}

/** Writes the file of a volume to its place on a disk, without what is zero. */
function put(volume: string, disk: string, firstSector: number): void {
  run('dd', `if=${volume}`, `of=${disk}`, 'bs=1M', `seek=${firstSector / 2048}`, 'conv=notrunc,sparse')
}

function esp(file: string, sizeBytes: number): string {
  blank(file, sizeBytes)
  run('/usr/sbin/mkfs.fat', '-F', '16', file)
  const loader = `${file}.efi`
  writeFileSync(loader, `MZ${'loader '.repeat(4000)}`)
  run('mmd', '-i', file, '::/EFI', '::/EFI/BOOT')
  run('mcopy', '-i', file, loader, '::/EFI/BOOT/BOOTX64.EFI')
  return file
}

function ntfs(file: string, sizeBytes: number, work: string): string {
  blank(file, sizeBytes)
  run('/usr/sbin/mkntfs', '-F', '-Q', '-L', 'OWN', '-p', '133120', '-H', '255', '-S', '63', file)
  for (const [name, text] of Object.entries(OWN_FILES)) {
    const from = path.join(work, 'one file')
    writeFileSync(from, text)
    // A file goes to the root of the volume; its program makes no folders.
    run('/usr/sbin/ntfscp', '-f', file, from, path.basename(name))
  }
  return file
}

function ext4(file: string, sizeBytes: number, work: string): string {
  blank(file, sizeBytes)
  const from = folderWith(path.join(work, 'ext4 files'), OWN_FILES)
  run('/usr/sbin/mkfs.ext4', '-q', '-d', from, file)
  return file
}

function inWork<T>(make: (work: string) => T): T {
  const work = mkdtempSync(path.join(tmpdir(), 'imbarco-own-disk-'))
  try {
    return make(work)
  } finally {
    rmSync(work, { recursive: true, force: true })
  }
}

/** A GPT with an EFI system partition and NTFS, on a disk of 1 GiB. */
export function gptWithNtfs(disk: string): string {
  return inWork((work) => {
    blank(disk, 1024 * MIB)
    run('/usr/sbin/sgdisk', '-n', '1:2048:+64M', '-t', '1:ef00', '-n', '2:0:+900M', '-t', '2:0700', disk)
    put(esp(path.join(work, 'esp'), 64 * MIB), disk, 2048)
    put(ntfs(path.join(work, 'ntfs'), 900 * MIB, work), disk, 133120)
    return disk
  })
}

/** A GPT with an EFI system partition and ext4, on a disk of 1 GiB of which half is free. */
export function gptWithExt4(disk: string): string {
  return inWork((work) => {
    blank(disk, 1024 * MIB)
    run('/usr/sbin/sgdisk', '-n', '1:2048:+64M', '-t', '1:ef00', '-n', '2:0:+300M', '-t', '2:8300', disk)
    put(esp(path.join(work, 'esp'), 64 * MIB), disk, 2048)
    put(ext4(path.join(work, 'ext4'), 300 * MIB, work), disk, 133120)
    return disk
  })
}

/** An MBR with a primary partition of FAT and two logical ones of ext4, on a disk of 1 GiB. */
export function mbrWithLogical(disk: string): string {
  return inWork((work) => {
    blank(disk, 1024 * MIB)
    const table = [
      'label: dos',
      'start=2048, size=131072, type=6, bootable',
      'start=133120, size=1638400, type=5',
      'start=135168, size=614400, type=83',
      'start=751616, size=614400, type=83',
    ]
    execFileSync('/usr/sbin/sfdisk', ['-q', disk], { input: `${table.join('\n')}\n`, stdio: 'pipe' })
    const fat = blank(path.join(work, 'fat'), 64 * MIB)
    run('/usr/sbin/mkfs.fat', '-F', '16', '-h', '2048', fat)
    put(fat, disk, 2048)
    put(ext4(path.join(work, 'first'), 300 * MIB, work), disk, 135168)
    put(ext4(path.join(work, 'second'), 300 * MIB, work), disk, 751616)
    return disk
  })
}
