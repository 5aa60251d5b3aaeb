import { stringToUtf16, viewOf } from '../../bytes/struct'
import { type IndexItem, viewIndexEntry } from './index-tree'

/** The first security id a volume hands out; all files of a new volume share it. */
export const SECURITY_ID = 0x100

/** $UpCase: the upper case of each of the 65536 UTF-16 units, 128 KiB. */
export function upCaseTable(): Uint8Array {
  const bytes = new Uint8Array(65536 * 2)
  const view = viewOf(bytes)
  for (let unit = 0; unit < 65536; unit++) {
    const surrogate = unit >= 0xd800 && unit < 0xe000
    const upper = surrogate ? '' : String.fromCharCode(unit).toUpperCase()
    view.setUint16(unit * 2, upper.length === 1 ? upper.charCodeAt(0) : unit, true)
  }
  return bytes
}

/** $AttrDef: the attribute types a volume knows, 160 bytes each, closed by an empty one. */
export const ATTRIBUTE_DEFINITIONS = attributeDefinitions()

/** $Secure: one descriptor, its two copies in the stream and its entries in both indexes. */
export function securityStream(): {
  size: number
  parts: { at: number; bytes: Uint8Array }[]
  byHash: IndexItem[]
  byId: IndexItem[]
} {
  const descriptor = everyoneDescriptor()
  const hash = descriptorHash(descriptor)
  const head = new Uint8Array(20)
  const view = viewOf(head)
  view.setUint32(0, hash, true)
  view.setUint32(4, SECURITY_ID, true)
  view.setUint32(16, head.length + descriptor.length, true)
  const entry = new Uint8Array(head.length + descriptor.length)
  entry.set(head)
  entry.set(descriptor, head.length)
  // Every 256 KiB block of descriptors is followed by its own copy.
  const mirrorAt = 0x40000
  const idKey = head.slice(4, 8)
  const hashKey = head.slice(0, 8)
  const hashData = new Uint8Array(24)
  hashData.set(head)
  hashData.set(stringToUtf16('II'), 20)
  return {
    size: mirrorAt + entry.length,
    parts: [
      { at: 0, bytes: entry },
      { at: mirrorAt, bytes: entry },
    ],
    byHash: [viewIndexEntry(hashKey, hashData)],
    byId: [viewIndexEntry(idKey, head)],
  }
}

/** A self-relative descriptor: owned by the administrators, open to everyone. */
function everyoneDescriptor(): Uint8Array {
  const administrators = Uint8Array.of(1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0)
  const everyone = Uint8Array.of(1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0)
  const ace = new Uint8Array(8 + everyone.length)
  viewOf(ace).setUint16(2, ace.length, true)
  viewOf(ace).setUint32(4, 0x001f01ff, true)
  ace.set(everyone, 8)
  const bytes = new Uint8Array(20 + 8 + ace.length + administrators.length * 2)
  const view = viewOf(bytes)
  const aclAt = 20
  const ownerAt = aclAt + 8 + ace.length
  bytes[0] = 1
  view.setUint16(2, 0x8004, true)
  view.setUint32(4, ownerAt, true)
  view.setUint32(8, ownerAt + administrators.length, true)
  view.setUint32(16, aclAt, true)
  bytes[aclAt] = 2
  view.setUint16(aclAt + 2, 8 + ace.length, true)
  view.setUint16(aclAt + 4, 1, true)
  bytes.set(ace, aclAt + 8)
  bytes.set(administrators, ownerAt)
  bytes.set(administrators, ownerAt + administrators.length)
  return bytes
}

/** The hash under which $Secure finds a descriptor: rotate left by three and add, word by word. */
function descriptorHash(descriptor: Uint8Array): number {
  const view = viewOf(descriptor)
  let hash = 0
  for (let at = 0; at + 4 <= descriptor.length; at += 4) {
    hash = (view.getUint32(at, true) + ((hash << 3) | (hash >>> 29))) >>> 0
  }
  return hash
}

function attributeDefinitions(): Uint8Array {
  const rows: [string, number, number, number, number][] = [
    ['$STANDARD_INFORMATION', 0x10, 0x40, 0x30, 0x48],
    ['$ATTRIBUTE_LIST', 0x20, 0x80, 0, -1],
    ['$FILE_NAME', 0x30, 0x42, 0x44, 0x242],
    ['$OBJECT_ID', 0x40, 0x40, 0, 0x100],
    ['$SECURITY_DESCRIPTOR', 0x50, 0x80, 0, -1],
    ['$VOLUME_NAME', 0x60, 0x40, 2, 0x100],
    ['$VOLUME_INFORMATION', 0x70, 0x40, 0xc, 0xc],
    ['$DATA', 0x80, 0, 0, -1],
    ['$INDEX_ROOT', 0x90, 0x40, 0, -1],
    ['$INDEX_ALLOCATION', 0xa0, 0x80, 0, -1],
    ['$BITMAP', 0xb0, 0x80, 0, -1],
    ['$REPARSE_POINT', 0xc0, 0x80, 0, 0x4000],
    ['$EA_INFORMATION', 0xd0, 0x40, 8, 8],
    ['$EA', 0xe0, 0, 0, 0x10000],
    ['$LOGGED_UTILITY_STREAM', 0x100, 0x80, 0, 0x10000],
  ]
  const bytes = new Uint8Array(2560)
  const view = viewOf(bytes)
  rows.forEach(([name, type, flags, minimum, maximum], i) => {
    const at = i * 160
    bytes.set(stringToUtf16(name), at)
    view.setUint32(at + 128, type, true)
    // File names are the one type that directories sort.
    view.setUint32(at + 136, type === 0x30 ? 1 : 0, true)
    view.setUint32(at + 140, flags, true)
    view.setBigUint64(at + 144, BigInt(minimum), true)
    view.setBigInt64(at + 152, BigInt(maximum), true)
  })
  return bytes
}
