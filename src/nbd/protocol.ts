import { defineStruct } from '@/core/bytes/struct'

// The protocol of network block devices as it is published ("doc/proto.md" of its specification): fixed newstyle
// negotiation, structured replies, block status. All integers are big-endian.

/** `NBDMAGIC`, the first eight bytes that a server says. */
export const SERVER_MAGIC = 0x4e42_444d_4147_4943n
/** `IHAVEOPT`, before every option. */
export const OPTION_MAGIC = 0x4948_4156_454f_5054n
export const OPTION_REPLY_MAGIC = 0x0003_e889_0455_65a9n
export const REQUEST_MAGIC = 0x2560_9513
export const SIMPLE_REPLY_MAGIC = 0x6744_6698
export const STRUCTURED_REPLY_MAGIC = 0x668e_33ef

/** Flags of both sides at the start. */
export const HANDSHAKE = { fixedNewstyle: 1, noZeroes: 2 } as const

export const OPTION = {
  exportName: 1,
  abort: 2,
  list: 3,
  startTls: 5,
  info: 6,
  go: 7,
  structuredReply: 8,
  listMetaContext: 9,
  setMetaContext: 10,
} as const

const ERROR_BIT = 2 ** 31

export const OPTION_REPLY = {
  ack: 1,
  server: 2,
  info: 3,
  metaContext: 4,
  unsupported: ERROR_BIT + 1,
  policy: ERROR_BIT + 2,
  invalid: ERROR_BIT + 3,
  tlsRequired: ERROR_BIT + 5,
  unknown: ERROR_BIT + 6,
  shutdown: ERROR_BIT + 7,
  tooBig: ERROR_BIT + 9,
} as const

export const isOptionError = (type: number) => type >= ERROR_BIT

export const INFO = { export: 0, name: 1, description: 2, blockSize: 3 } as const

/** What can be done with an export. */
export const EXPORT_FLAG = {
  hasFlags: 1,
  readOnly: 2,
  flush: 4,
  fua: 8,
  trim: 32,
  writeZeroes: 64,
  dontFragment: 128,
  multipleConnections: 256,
} as const

export const COMMAND = { read: 0, write: 1, disconnect: 2, flush: 3, trim: 4, writeZeroes: 6, blockStatus: 7 } as const

export const COMMAND_FLAG = { fua: 1, noHole: 2, dontFragment: 4, requestOne: 8 } as const

export const CHUNK_DONE = 1
const CHUNK_ERROR_BIT = 2 ** 15

export const CHUNK = {
  none: 0,
  data: 1,
  hole: 2,
  blockStatus: 5,
  error: CHUNK_ERROR_BIT + 1,
  errorOffset: CHUNK_ERROR_BIT + 2,
} as const

export const isErrorChunk = (type: number) => type >= CHUNK_ERROR_BIT

/** What a request ends with where it is not done; the numbers are those of POSIX. */
export const FAILURE = {
  notPermitted: 1,
  io: 5,
  noMemory: 12,
  invalid: 22,
  noSpace: 28,
  overflow: 75,
  notSupported: 95,
  shutdown: 108,
} as const

/** The context in which block status tells what is allocated. */
export const ALLOCATION = 'base:allocation'
/** Of a stretch in that context: it takes no room; it reads as zeros. */
export const ALLOCATION_FLAG = { hole: 1, zero: 2 } as const

/**
 * Contexts of Imbarco's own, in the form that the protocol leaves for such: block status of a range tells in each the
 * next 32 bits of the range's digest (`pieceDigest` by BLAKE3), as one extent of the range's length. So what was written
 * is checked where it lies, and does not travel.
 */
export const DIGEST_CONTEXTS = [0, 1, 2, 3].map((word) => `x-imbarco:blake3/${word}`)

/** Names of exports and contexts are no longer than this, in bytes. */
export const MOST_NAME_BYTES = 4096
/** What a peer that says nothing of it takes in one request. */
export const DEFAULT_MOST_BYTES = 32 * 1024 * 1024

export const SERVER_START = defineStruct(
  'NBD greeting',
  18,
  { magic: [0, 'bits64'], optionMagic: [8, 'bits64'], flags: [16, 'u16'] },
  'big',
)
export const OPTION_HEADER = defineStruct(
  'NBD option',
  16,
  { magic: [0, 'bits64'], option: [8, 'u32'], length: [12, 'u32'] },
  'big',
)
export const OPTION_REPLY_HEADER = defineStruct(
  'NBD option reply',
  20,
  { magic: [0, 'bits64'], option: [8, 'u32'], type: [12, 'u32'], length: [16, 'u32'] },
  'big',
)
export const INFO_EXPORT = defineStruct(
  'NBD export information',
  12,
  { type: [0, 'u16'], size: [2, 'u64'], flags: [10, 'u16'] },
  'big',
)
export const INFO_BLOCK_SIZE = defineStruct(
  'NBD block sizes',
  14,
  { type: [0, 'u16'], minimum: [2, 'u32'], preferred: [6, 'u32'], maximum: [10, 'u32'] },
  'big',
)
export const REQUEST = defineStruct(
  'NBD request',
  28,
  {
    magic: [0, 'u32'],
    flags: [4, 'u16'],
    type: [6, 'u16'],
    cookie: [8, 'bits64'],
    offset: [16, 'bits64'],
    length: [24, 'u32'],
  },
  'big',
)
export const SIMPLE_REPLY = defineStruct(
  'NBD simple reply',
  16,
  { magic: [0, 'u32'], error: [4, 'u32'], cookie: [8, 'bits64'] },
  'big',
)
export const CHUNK_HEADER = defineStruct(
  'NBD structured reply',
  20,
  { magic: [0, 'u32'], flags: [4, 'u16'], type: [6, 'u16'], cookie: [8, 'bits64'], length: [16, 'u32'] },
  'big',
)
export const HOLE = defineStruct('NBD hole', 12, { offset: [0, 'bits64'], length: [8, 'u32'] }, 'big')

export function u32(value: number): Uint8Array {
  const bytes = Buffer.alloc(4)
  bytes.writeUInt32BE(value)
  return bytes
}

export function u16(value: number): Uint8Array {
  const bytes = Buffer.alloc(2)
  bytes.writeUInt16BE(value)
  return bytes
}
