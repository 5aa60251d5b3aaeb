import { readdir, readFile, realpath, stat } from 'node:fs/promises'
import path from 'node:path'
import type { SeenDevice } from '@/core/things/drive'

// What this computer's kernel and its device manager tell of drives, in their own files.

const BLOCK = '/sys/block'
const BY_NUMBER = '/sys/dev/block'
const MANAGER = '/run/udev/data'

export type Transport = 'SATA' | 'NVMe' | 'USB' | 'eMMC' | 'virtual' | 'loop' | 'other'

/** A drive of this computer. */
export interface KernelDrive {
  /** `sda` */
  readonly name: string
  /** `8:0`: what an open descriptor tells of itself, too. */
  readonly number: string
  /** Given to one device alone since the kernel was started; null where it gives none. */
  readonly sequence: number | null
  readonly sizeBytes: number
  readonly logicalSectorSize: number
  readonly physicalSectorSize: number
  readonly model: string
  readonly serial: string | null
  /** The serial is that of the bridge which a drive hangs at. */
  readonly ofBridge: boolean
  readonly transport: Transport
  /** What its USB port agreed on, in Mb/s. */
  readonly usbMegabits: number | null
  readonly isRotational: boolean
  readonly isRemovable: boolean
  /** It can be told to forget a range, and promises zeros from then on. */
  readonly forgets: boolean
  /** Where it is plugged in, as the kernel numbers it. */
  readonly port: string
  /** Of a loop device: the file that stands for it, and the byte of that where it begins. */
  readonly backingFile: string | null
  readonly backingOffset: number
}

const text = async (file: string): Promise<string | undefined> =>
  readFile(file, 'utf8').then(
    (found) => found.replaceAll('\0', '').trim() || undefined,
    () => undefined,
  )

/** Drives of this computer, loop devices only when asked for, and only those that stand for something. */
export async function listDrives({ loops = false } = {}): Promise<KernelDrive[]> {
  const names = await readdir(BLOCK).catch(() => [])
  const found: KernelDrive[] = []
  for (const name of names.sort()) {
    if (/^(ram|zram|dm-|md|nbd|sr|fd)/.test(name) || (name.startsWith('loop') && !loops)) continue
    // One that was let go of stays only until its last user has closed it.
    if ((await text(path.join(BLOCK, name, 'loop', 'autoclear'))) === '1') continue
    const drive = await describe(name)
    if (drive && drive.sizeBytes > 0) found.push(drive)
  }
  return found
}

/** The whole drive that an open device is, by its number; undefined for a partition or anything else. */
export async function driveOfNumber(number: string): Promise<KernelDrive | undefined> {
  const place = await realpath(path.join(BY_NUMBER, number)).catch(() => undefined)
  if (place === undefined || (await text(path.join(place, 'partition'))) !== undefined) return undefined
  return describe(path.basename(place))
}

/** `8:0` of a device number as `stat` has it. */
export function numberOf(device: number): string {
  const number = BigInt(device)
  const major = ((number >> 8n) & 0xfffn) | ((number >> 32n) & ~0xfffn)
  const minor = (number & 0xffn) | ((number >> 12n) & ~0xffn)
  return `${major}:${minor}`
}

async function describe(name: string): Promise<KernelDrive | undefined> {
  const folder = path.join(BLOCK, name)
  const [number, sectors] = [await text(path.join(folder, 'dev')), await text(path.join(folder, 'size'))]
  if (number === undefined || sectors === undefined) return undefined
  const place = await realpath(folder)
  const managed = await managerOf(number)
  const transport = transportOf(name, place, managed)
  const told = await text(path.join(folder, 'device', 'serial'))
  const serial = managed.get('ID_SERIAL_SHORT') ?? managed.get('ID_SCSI_SERIAL') ?? told ?? null
  const model = managed.get('ID_MODEL')?.replaceAll('_', ' ') ?? (await text(path.join(folder, 'device', 'model')))
  const backingFile = (await text(path.join(folder, 'loop', 'backing_file'))) ?? null
  const usb = transport === 'USB' ? await usbOf(place) : undefined
  const most = async (what: string) => numberIn(await text(path.join(folder, 'queue', what))) ?? 0
  return {
    ...{ name, number, transport, backingFile },
    backingOffset: numberIn(await text(path.join(folder, 'loop', 'offset'))) ?? 0,
    sequence: numberIn(await text(path.join(folder, 'diskseq'))),
    sizeBytes: Number(sectors) * 512,
    logicalSectorSize: numberIn(await text(path.join(folder, 'queue', 'logical_block_size'))) ?? 512,
    physicalSectorSize: numberIn(await text(path.join(folder, 'queue', 'physical_block_size'))) ?? 512,
    model: oneLine(model ?? '', 80) || (transport === 'loop' ? 'Loop device' : 'Drive without a model'),
    serial: oneLine(serial ?? '', 200) || null,
    // What a drive says of itself through a bridge is told apart from what the bridge says.
    ofBridge: usb !== undefined && serial !== null && serial === usb.serial,
    usbMegabits: usb?.megabits ?? null,
    isRotational: (await text(path.join(folder, 'queue', 'rotational'))) === '1',
    isRemovable: (await text(path.join(folder, 'removable'))) === '1',
    forgets: (await most('discard_max_bytes')) > 0 && (await most('write_zeroes_max_bytes')) > 0,
    port: portOf(place, name),
  }
}

const numberIn = (found: string | undefined) => (found === undefined ? null : Number(found))

/** Which device it is, as an open one is held against it. */
export function seenDevice({ number, sequence, sizeBytes, serial }: KernelDrive): SeenDevice {
  return { number, sequence, sizeBytes, serial: serial === null ? null : oneLine(serial, 200) }
}

/** What a device says of itself, as a line that anybody can show: it may say anything. */
export function oneLine(text: string, most: number): string {
  return text
    .replace(/[\p{C}\p{Zl}\p{Zp}\ufffd]/gu, '')
    .trim()
    .slice(0, most)
    .replace(/\p{Surrogate}/gu, '')
    .trim()
}

/** What the device manager has found out, where there is one. */
async function managerOf(number: string): Promise<Map<string, string>> {
  const lines = ((await text(path.join(MANAGER, `b${number}`))) ?? '').split('\n')
  return new Map(
    lines.flatMap((line) => {
      const found = /^E:([A-Z0-9_]+)=(.*)$/.exec(line)
      return found ? [[found[1], found[2]] as const] : []
    }),
  )
}

function transportOf(name: string, place: string, managed: ReadonlyMap<string, string>): Transport {
  if (name.startsWith('loop')) return 'loop'
  if (name.startsWith('nvme')) return 'NVMe'
  if (name.startsWith('mmcblk')) return 'eMMC'
  if (managed.get('ID_BUS') === 'usb' || /\/usb\d+\//.test(place)) return 'USB'
  if (/\/(ata\d+)\//.test(place) || managed.get('ID_BUS') === 'ata') return 'SATA'
  if (/\/virtio\d+\//.test(place)) return 'virtual'
  return 'other'
}

/** The USB device that a drive hangs at: the nearest above it that has agreed on a rate. */
async function usbOf(place: string): Promise<{ serial: string | undefined; megabits: number | undefined }> {
  for (let at = path.dirname(place); at.includes('/usb'); at = path.dirname(at)) {
    const speed = await text(path.join(at, 'speed'))
    if (speed !== undefined)
      return { serial: await text(path.join(at, 'serial')), megabits: Number(speed) || undefined }
  }
  return { serial: undefined, megabits: undefined }
}

/** `ata1`, `usb 2-1.4`, `nvme0`: the part of its place by which people tell ports apart. */
function portOf(place: string, name: string): string {
  const ata = /\/(ata\d+)\//.exec(place)?.[1]
  const usb = [...place.matchAll(/\/(\d+-[\d.]+)(?=\/)/g)].at(-1)?.[1]
  return ata ?? (usb ? `usb ${usb}` : name.replace(/n\d+$/, ''))
}

/** Why a drive is not to be written to now: each use of it or of a part of it, as the end of a sentence. */
export async function usesOf({ name, number }: Pick<KernelDrive, 'name' | 'number'>): Promise<string[]> {
  const folder = path.join(BLOCK, name)
  const parts = (await readdir(folder).catch(() => [])).filter((part) => part.startsWith(name))
  const numbers = new Map([[number, name]])
  for (const part of parts) {
    const partNumber = await text(path.join(folder, part, 'dev'))
    if (partNumber !== undefined) numbers.set(partNumber, part)
  }
  const uses: string[] = []
  for (const line of ((await text('/proc/self/mountinfo')) ?? '').split('\n')) {
    const [, , device, , at] = line.split(' ')
    const source = line.split(' - ')[1]?.split(' ')[1]
    const part = numbers.get(device) ?? (source?.startsWith('/dev/') ? numbers.get(await numberAt(source)) : undefined)
    if (part !== undefined) uses.push(`${part} is mounted at ${unescaped(at)}`)
  }
  for (const line of ((await text('/proc/swaps')) ?? '').split('\n').slice(1)) {
    const part = numbers.get(await numberAt(line.split(/\s+/)[0]))
    if (part !== undefined) uses.push(`${part} is swapped on`)
  }
  for (const part of ['', ...parts]) {
    for (const holder of await readdir(path.join(folder, part, 'holders')).catch(() => []))
      uses.push(`${part || name} is part of ${(await text(path.join(BLOCK, holder, 'dm', 'name'))) ?? holder}`)
  }
  for (const loop of (await readdir(BLOCK).catch(() => [])).filter((one) => one.startsWith('loop'))) {
    const file = await text(path.join(BLOCK, loop, 'loop', 'backing_file'))
    const part = file?.startsWith('/dev/') ? numbers.get(await numberAt(file)) : undefined
    if (part !== undefined) uses.push(`${part} stands behind ${loop}`)
  }
  return [...new Set(uses)]
}

async function numberAt(file: string): Promise<string> {
  const found = await stat(file).catch(() => undefined)
  return found?.isBlockDevice() ? numberOf(found.rdev) : ''
}

/** As the kernel writes places: blanks and the like by their octal numbers. */
const unescaped = (place: string) =>
  place.replaceAll(/\\([0-7]{3})/g, (_, octal: string) => String.fromCharCode(Number.parseInt(octal, 8)))

/** The file behind a loop device, wherever links lead. */
export async function backingOf(drive: Pick<KernelDrive, 'backingFile'>): Promise<string | undefined> {
  const { backingFile } = drive
  if (backingFile === null) return undefined
  return realpath(backingFile).catch(() => backingFile)
}

/** What a person types to name a drive: the end of its serial, or of its number of sectors where it has none. */
export function plateText(
  { serial, sizeBytes }: Pick<KernelDrive, 'serial' | 'sizeBytes'>,
  sectorSize: number,
): string {
  return (serial ?? String(sizeBytes / sectorSize)).slice(-4).toUpperCase()
}
