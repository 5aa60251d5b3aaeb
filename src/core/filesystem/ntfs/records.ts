import { alignUp } from '../../bytes/size'
import { stringToUtf16, utf16ToString, viewOf } from '../../bytes/struct'
import { CoreError, NotSupported } from '../../errors'
import { applyFixups } from './fixups'
import {
  ATTRIBUTE,
  ATTRIBUTE_TYPES,
  FILE_ATTRIBUTE_DIRECTORY_INDEX,
  FILE_NAME,
  FILE_RECORD,
  NON_RESIDENT,
  RESIDENT,
} from './layout'
import { encodeRuns, type Run } from './runs'
import type { Attribute, FileRecord } from './volume'

/** What the head of an attribute says besides its value. */
export interface AttributeHead {
  readonly type: number
  readonly name?: string
  readonly id: number
  readonly flags?: number
}

/** An attribute whose value lies in the record, as bytes. `indexed` marks a name that a directory holds. */
export function residentAttribute(head: AttributeHead, value: Uint8Array, indexed = false): Uint8Array {
  const name = stringToUtf16(head.name ?? '')
  const valueOffset = alignUp(RESIDENT.size + name.length, 8)
  const bytes = new Uint8Array(alignUp(valueOffset + value.length, 8))
  writeHead(bytes, head, RESIDENT.size, name, 0)
  RESIDENT.write(bytes, { valueLength: value.length, valueOffset, indexed: indexed ? 1 : 0 })
  bytes.set(value, valueOffset)
  return bytes
}

/** Sizes in bytes of a value that lies in clusters. */
export interface PlacedValue {
  readonly runs: readonly Run[]
  readonly lowestVcn?: number
  readonly allocatedSize: number
  readonly dataSize: number
  readonly initializedSize: number
}

/** An attribute whose value lies in clusters, as bytes. */
export function nonResidentAttribute(head: AttributeHead, placed: PlacedValue): Uint8Array {
  const name = stringToUtf16(head.name ?? '')
  const runsOffset = alignUp(NON_RESIDENT.size + name.length, 8)
  const runs = encodeRuns(placed.runs)
  const bytes = new Uint8Array(alignUp(runsOffset + runs.length, 8))
  const lowestVcn = placed.lowestVcn ?? 0
  const clusters = placed.runs.reduce((sum, run) => sum + run.length, 0)
  writeHead(bytes, head, NON_RESIDENT.size, name, 1)
  NON_RESIDENT.write(bytes, {
    lowestVcn,
    highestVcn: BigInt.asUintN(64, BigInt(lowestVcn + clusters - 1)),
    runsOffset,
    allocatedSize: placed.allocatedSize,
    dataSize: placed.dataSize,
    initializedSize: placed.initializedSize,
  })
  bytes.set(runs, runsOffset)
  return bytes
}

/** A whole file record, fix-ups applied. Throws CoreError when the attributes do not fit. */
export function buildRecord(
  recordSize: number,
  values: { number: number; sequence: number; links: number; flags: number; base?: bigint; nextId: number },
  attributes: readonly Uint8Array[],
): Uint8Array {
  const bytes = new Uint8Array(recordSize)
  const usaCount = recordSize / 512 + 1
  const attributesOffset = alignUp(FILE_RECORD.size + usaCount * 2, 8)
  const bytesInUse = attributesOffset + attributes.reduce((sum, a) => sum + a.length, 0) + 8
  if (bytesInUse > recordSize) throw new CoreError(`File record ${values.number} has no room for its attributes.`)
  FILE_RECORD.write(bytes, {
    magic: 'FILE',
    usaOffset: FILE_RECORD.size,
    usaCount,
    sequence: values.sequence,
    linkCount: values.links,
    attributesOffset,
    flags: values.flags,
    bytesInUse,
    bytesAllocated: recordSize,
    baseRecord: values.base ?? 0n,
    nextAttributeId: values.nextId,
    recordNumber: values.number,
  })
  let at = attributesOffset
  for (const attribute of attributes) {
    bytes.set(attribute, at)
    at += attribute.length
  }
  viewOf(bytes).setUint32(at, ATTRIBUTE_TYPES.end, true)
  applyFixups(bytes)
  return bytes
}

/** What a name says of its file besides the name. All time stamps are alike: 100 ns steps since 1601. */
export interface NamedFile {
  readonly parent: bigint
  readonly name: string
  readonly time: bigint
  readonly allocatedSize: number
  readonly dataSize: number
  readonly isDirectory: boolean
}

/** The value of a file-name attribute, which is also the key of its entry in the directory. */
export function fileNameValue({ parent, name, time, allocatedSize, dataSize, isDirectory }: NamedFile): Uint8Array {
  const value = new Uint8Array(FILE_NAME.size + name.length * 2)
  FILE_NAME.write(value, {
    parent,
    created: time,
    modified: time,
    recordChanged: time,
    accessed: time,
    allocatedSize,
    dataSize,
    fileAttributes: isDirectory ? FILE_ATTRIBUTE_DIRECTORY_INDEX : 0x20,
    nameLength: name.length,
    // 3: one name serves as the long and the short one; 1: a long name without a short one.
    namespace: /^[A-Z0-9$_-]{1,8}(\.[A-Z0-9]{1,3})?$/.test(name) || name === '.' ? 3 : 1,
  })
  value.set(stringToUtf16(name), FILE_NAME.size)
  return value
}

/** A file reference: the record's number, and its sequence in the upper 16 bits. */
export function referenceTo({ number, header }: FileRecord): bigint {
  return (BigInt(header.sequence) << 48n) | BigInt(number)
}

/** The type of an attribute as it stands. */
export function typeOf(raw: Uint8Array): number {
  return ATTRIBUTE.read(raw).type
}

/** The name of an attribute as it stands. */
export function attributeName(raw: Uint8Array): string {
  const { nameOffset, nameLength } = ATTRIBUTE.read(raw)
  return utf16ToString(raw, nameOffset, nameLength)
}

/** A number that none of these attributes has. */
export function freeId(attributes: readonly Uint8Array[]): number {
  return Math.max(0, ...attributes.map((a) => ATTRIBUTE.read(a).id)) + 1
}

/** Attributes stand in order of their type. */
export function inserted(attributes: readonly Uint8Array[], one: Uint8Array): Uint8Array[] {
  const at = attributes.findIndex((a) => typeOf(a) > typeOf(one))
  return at < 0 ? [...attributes, one] : [...attributes.slice(0, at), one, ...attributes.slice(at)]
}

/** The attribute as it stands in its record. */
export function rawAttribute(record: FileRecord, { at, length }: Attribute): Uint8Array {
  return record.bytes.slice(at, at + length)
}

/** Sizes that a placed attribute tells, where they change, and the first of its clusters where it is split. */
export type PlacementChange = Partial<Pick<PlacedValue, 'lowestVcn' | 'allocatedSize' | 'dataSize' | 'initializedSize'>>

/** A placed attribute with another run list. Throws NotSupported when its name stands behind its runs. */
export function withRuns(raw: Uint8Array, runs: readonly Run[], change: PlacementChange = {}): Uint8Array {
  const { runsOffset, lowestVcn } = NON_RESIDENT.read(raw)
  const { nameOffset, nameLength } = ATTRIBUTE.read(raw)
  if (nameLength > 0 && nameOffset > runsOffset) {
    throw new NotSupported('A record of this volume is built in an unusual way, so the volume keeps its size.')
  }
  const list = encodeRuns(runs)
  const bytes = new Uint8Array(alignUp(runsOffset + list.length, 8))
  bytes.set(raw.subarray(0, runsOffset))
  bytes.set(list, runsOffset)
  ATTRIBUTE.write(bytes, { length: bytes.length })
  const first = change.lowestVcn ?? lowestVcn
  const clusters = runs.reduce((sum, run) => sum + run.length, 0)
  NON_RESIDENT.write(bytes, { ...change, highestVcn: BigInt.asUintN(64, BigInt(first + clusters - 1)) })
  return bytes
}

/** The record with these attributes in place of its own, fix-ups applied; undefined when they do not fit. */
export function withAttributes(record: FileRecord, attributes: readonly Uint8Array[]): Uint8Array | undefined {
  const { attributesOffset } = record.header
  const bytesInUse = attributesOffset + attributes.reduce((sum, a) => sum + a.length, 0) + 8
  if (bytesInUse > record.bytes.length) return undefined
  const bytes = new Uint8Array(record.bytes.length)
  bytes.set(record.bytes.subarray(0, attributesOffset))
  let at = attributesOffset
  for (const attribute of attributes) {
    bytes.set(attribute, at)
    at += attribute.length
  }
  viewOf(bytes).setUint32(at, ATTRIBUTE_TYPES.end, true)
  // The next attribute that a system adds must not get a number that one of these has already.
  const nextAttributeId = Math.max(record.header.nextAttributeId, Math.min(0xffff, freeId(attributes)))
  FILE_RECORD.write(bytes, { bytesInUse, nextAttributeId })
  applyFixups(bytes)
  return bytes
}

/**
 * The record with one attribute exchanged, fix-ups applied, ready to be written.
 * Throws CoreError when the new attribute does not fit.
 */
export function replaceAttribute(record: FileRecord, old: Attribute, replacement: Uint8Array): Uint8Array {
  const bytes = withAttributes(
    record,
    record.attributes.map((a) => (a === old ? replacement : rawAttribute(record, a))),
  )
  if (!bytes) throw new CoreError(`File record ${record.number} has no room for a longer run list.`)
  return bytes
}

function writeHead(bytes: Uint8Array, head: AttributeHead, nameOffset: number, name: Uint8Array, nonResident: number) {
  ATTRIBUTE.write(bytes, {
    type: head.type,
    length: bytes.length,
    nonResident,
    nameLength: name.length / 2,
    nameOffset,
    flags: head.flags ?? 0,
    id: head.id,
  })
  bytes.set(name, nameOffset)
}
