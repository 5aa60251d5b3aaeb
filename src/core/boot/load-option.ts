import { concatBytes } from '../bytes/concat'
import { defineStruct, stringToUtf16, utf16ToString } from '../bytes/struct'
import { guidToBytes, guidToString } from '../bytes/guid'
import { BadStructure } from '../errors'

// UEFI Specification 2.10, sections 3.1.3 (EFI_LOAD_OPTION) and 10.3 (device paths).

const OPTION = defineStruct('EFI load option', 6, { attributes: [0, 'u32'], pathBytes: [4, 'u16'] })
const NODE = defineStruct('EFI device path node', 4, { type: [0, 'u8'], subtype: [1, 'u8'], length: [2, 'u16'] })
const HARD_DRIVE = defineStruct('EFI hard drive media device path', 42, {
  type: [0, 'u8'],
  subtype: [1, 'u8'],
  length: [2, 'u16'],
  partition: [4, 'u32'],
  startLba: [8, 'bits64'],
  sectors: [16, 'bits64'],
  signature: [24, ['bytes', 16]],
  format: [40, 'u8'],
  signatureType: [41, 'u8'],
})

const ACTIVE = 1
const MEDIA = 4
const MEDIA_HARD_DRIVE = 1
const MEDIA_FILE = 4
const END = 0x7f
const END_ALL = 0xff
const GPT = 2
const GUID_SIGNATURE = 2

/** What an entry of a firmware's boot menu starts, as far as it names a file on a partition. */
export interface LoadOption {
  readonly name: string
  readonly isActive: boolean
  /** The partition, where it is one of a GPT. */
  readonly partition?: {
    readonly number: number
    readonly guid: string
    readonly startLba: bigint
    readonly sectors: bigint
  }
  /** Of the file, with backslashes; empty where it names none. */
  readonly path: string
}

/** Longest name of an entry, in characters; firmware shows no more of it. */
const MOST_NAME = 512

/** Reads an entry as firmware keeps it. Throws BadStructure. */
export function readLoadOption(bytes: Uint8Array): LoadOption {
  const { attributes, pathBytes } = OPTION.read(bytes)
  const most = Math.min(MOST_NAME + 1, Math.floor((bytes.length - OPTION.size) / 2))
  const name = utf16ToString(bytes, OPTION.size, most, true)
  if (name.length === most) throw new BadStructure('EFI load option', OPTION.size, 'its name has no end')
  const at = OPTION.size + 2 * (name.length + 1)
  const end = at + pathBytes
  if (end > bytes.length) throw new BadStructure('EFI load option', at, 'its device path is longer than it is')
  return { name, isActive: (attributes & ACTIVE) !== 0, ...readPath(bytes.subarray(at, end)) }
}

/** What the first device path of a list names. */
function readPath(bytes: Uint8Array): Pick<LoadOption, 'partition' | 'path'> {
  let partition: LoadOption['partition']
  let path = ''
  for (let at = 0; at + NODE.size <= bytes.length;) {
    const { type, subtype, length } = NODE.read(bytes, at)
    if (length < NODE.size || at + length > bytes.length)
      throw new BadStructure('EFI device path', at, `a node of ${length} bytes`)
    // Behind the end of the first come others, which say the same in other words.
    if (type === END && subtype === END_ALL) break
    if (type === MEDIA && subtype === MEDIA_HARD_DRIVE && length >= HARD_DRIVE.size) {
      const { partition: number, startLba, sectors, signature, format, signatureType } = HARD_DRIVE.read(bytes, at)
      if (format === GPT && signatureType === GUID_SIGNATURE)
        partition = { number, guid: guidToString(signature), startLba, sectors }
    }
    if (type === MEDIA && subtype === MEDIA_FILE) path += textOf(bytes.subarray(at + NODE.size, at + length))
    at += length
  }
  return { ...(partition ? { partition } : {}), path }
}

/** UTF-16 as firmware keeps it, up to the first NUL. */
const textOf = (bytes: Uint8Array) => utf16ToString(bytes, 0, Math.floor(bytes.length / 2), true)

/** An entry for a file on a partition of a GPT, as firmware keeps it. */
export function writeLoadOption({ name, isActive, partition, path }: Required<LoadOption>): Uint8Array {
  const drive = new Uint8Array(HARD_DRIVE.size)
  HARD_DRIVE.write(drive, {
    ...{ type: MEDIA, subtype: MEDIA_HARD_DRIVE, length: HARD_DRIVE.size },
    ...{ partition: partition.number, startLba: partition.startLba, sectors: partition.sectors },
    ...{ signature: guidToBytes(partition.guid), format: GPT, signatureType: GUID_SIGNATURE },
  })
  const file = node(MEDIA, MEDIA_FILE, withNul(path))
  const paths = [drive, file, node(END, END_ALL, new Uint8Array(0))]
  const head = new Uint8Array(OPTION.size)
  const pathBytes = paths.reduce((sum, part) => sum + part.length, 0)
  OPTION.write(head, { attributes: isActive ? ACTIVE : 0, pathBytes })
  return concatBytes([head, withNul(name), ...paths])
}

function node(type: number, subtype: number, content: Uint8Array): Uint8Array {
  const head = new Uint8Array(NODE.size)
  NODE.write(head, { type, subtype, length: NODE.size + content.length })
  return concatBytes([head, content])
}

const withNul = (text: string) => stringToUtf16(`${text}\0`)

/** The entries of a boot order, as firmware keeps it: `0003`. */
export function readBootOrder(bytes: Uint8Array): string[] {
  const found: string[] = []
  for (let i = 0; i + 1 < bytes.length; i += 2)
    found.push((bytes[i] | (bytes[i + 1] << 8)).toString(16).toUpperCase().padStart(4, '0'))
  return found
}

/** The same order as firmware keeps it. */
export function writeBootOrder(order: readonly string[]): Uint8Array {
  return Uint8Array.from(order.flatMap((id) => [Number.parseInt(id, 16) & 0xff, Number.parseInt(id, 16) >> 8]))
}
