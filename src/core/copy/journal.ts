import * as z from 'zod'
import { fromBase64 } from '../bytes/base64'
import { crc32 } from '../bytes/crc32'
import { CoreError } from '../errors'
import { DIVISION } from './division'
import { KEPT_BYTES, PieceDigests } from './piece-digests'

/** That of journals that do not name theirs. */
const FIRST_DIVISION = 1

const count = z.number().int().nonnegative()
const lostRun = z.object({ offset: count, length: count, tried: z.boolean() })

/**
 * One line of a copy's journal. A line is stored only after what it says has reached the target's medium, so that
 * whatever happens the target holds at least what the journal says.
 */
export const JournalRecordSchema = z.discriminatedUnion('did', [
  /**
   * `work`: digest of all that decides what the copy writes; another one is another copy. `division`: how the plan is
   * divided into the pieces that are counted here; absent in the first. `metadata`: digests of what the volumes of the
   * source keep about their files, absent in a journal of an earlier version.
   */
  z.object({
    did: z.literal('begin'),
    job: z.string().max(90),
    work: z.string().max(130),
    division: count.optional(),
    verify: z.boolean(),
    metadata: z.string().optional(),
  }),
  /** The target carries its mark; `blank`: all the rest of it reads as zeros. */
  z.object({ did: z.literal('erase'), blank: z.boolean() }),
  /**
   * The pieces before the `pieces`th are on the target, but for those in `later`; their digests since the last line.
   * `bytes`: of all pieces up to there; absent in a journal of an earlier version.
   */
  z.object({
    did: z.literal('copy'),
    pieces: count,
    bytes: count.optional(),
    digests: z.string(),
    later: z.array(count),
    written: count,
  }),
  /** A piece that did not read at first, with what stayed lost of it. */
  z.object({ did: z.literal('rescue'), piece: count, digest: z.string(), lost: z.array(lostRun), written: count }),
  z.object({ did: z.literal('copy all') }),
  /** The pieces before the `pieces`th were read back; `differ` of them did not agree. */
  z.object({ did: z.literal('check'), pieces: count, bytes: count.optional(), differ: z.array(count) }),
  z.object({ did: z.literal('check all') }),
  /** One of several targets is no longer written. */
  z.object({ did: z.literal('let go'), target: count, why: z.string() }),
  z.object({ did: z.literal('end') }),
])
export type JournalRecord = z.infer<typeof JournalRecordSchema>

/** Where a copy keeps its checkpoints. `append` resolves when the record would survive a power cut. */
export interface CopyJournal {
  append(record: JournalRecord): Promise<void>
}

/** Where a copy is, as its journal has it. */
export interface CopyState {
  job: string
  work: string
  /** The division of the plan by which pieces are counted. */
  division: number
  verify: boolean
  /** Digests of the source's metadata when the copy began, in base64. */
  metadata?: string
  erased: boolean
  blank: boolean
  /** Pieces that the last checkpoint names, counted from the first. */
  pieces: number
  /** Bytes of these. */
  copiedBytes: number
  readonly digests: PieceDigests
  /** Of these, those that did not read and are still to be rescued. */
  readonly later: Set<number>
  readonly lost: { offset: number; length: number; tried: boolean }[]
  writtenBytes: number
  copied: boolean
  checked: number
  checkedBytes: number
  readonly differ: number[]
  equal: boolean
  readonly letGo: Map<number, string>
  ended: boolean
}

/** What a copy that was cut off has on its target for certain: bytes copied, and of these read back and equal. */
export type Sure = Readonly<Pick<CopyState, 'copiedBytes' | 'checkedBytes'>>

/** The state of a copy that has not begun. */
export function freshState(job: string, work: string, verify: boolean): CopyState {
  return {
    job,
    work,
    division: DIVISION,
    verify,
    erased: false,
    blank: false,
    pieces: 0,
    copiedBytes: 0,
    digests: new PieceDigests(),
    later: new Set(),
    lost: [],
    writtenBytes: 0,
    copied: false,
    checked: 0,
    checkedBytes: 0,
    differ: [],
    equal: false,
    letGo: new Map(),
    ended: false,
  }
}

/** A record as one line of text, with a checksum in front. */
export function journalLine(record: JournalRecord): string {
  const text = JSON.stringify(record)
  return `${checksum(text)} ${text}\n`
}

function checksum(text: string): string {
  return crc32(new TextEncoder().encode(text)).toString(16).padStart(8, '0')
}

/**
 * The records of a journal up to the first line that is cut or damaged: what was written last when the power went is
 * not believed, and neither is what follows.
 */
export function journalRecords(text: string): JournalRecord[] {
  const records: JournalRecord[] = []
  const lines = text.split('\n')
  // Without its end a line was not stored whole.
  for (const line of lines.slice(0, -1)) {
    const body = line.slice(9)
    if (line[8] !== ' ' || line.slice(0, 8) !== checksum(body)) break
    records.push(JournalRecordSchema.parse(JSON.parse(body)))
  }
  return records
}

/** Where the copy of a journal is. Throws CoreError for records that cannot have followed each other. */
export function stateOf(records: readonly JournalRecord[]): CopyState | undefined {
  const [first, ...rest] = records
  if (!first) return undefined
  if (first.did !== 'begin') throw new CoreError('The journal of this copy does not begin with its beginning.')
  const state = freshState(first.job, first.work, first.verify)
  state.division = first.division ?? FIRST_DIVISION
  if (first.metadata !== undefined) state.metadata = first.metadata
  for (const record of rest) apply(state, record)
  return state
}

function apply(state: CopyState, record: JournalRecord): void {
  switch (record.did) {
    case 'begin':
      throw new CoreError('The journal holds two copies.')
    case 'erase':
      Object.assign(state, { erased: true, blank: record.blank })
      return
    case 'copy': {
      const digests = fromBase64(record.digests)
      if (digests.length !== (record.pieces - state.pieces) * KEPT_BYTES) {
        throw new CoreError('The journal of this copy lacks the digests of some pieces.')
      }
      for (let i = state.pieces; i < record.pieces; i++) {
        state.digests.set(i, digests.subarray((i - state.pieces) * KEPT_BYTES))
      }
      record.later.forEach((piece) => state.later.add(piece))
      Object.assign(state, { pieces: record.pieces, writtenBytes: record.written })
      state.copiedBytes = record.bytes ?? state.copiedBytes
      return
    }
    case 'rescue':
      state.later.delete(record.piece)
      state.digests.set(record.piece, fromBase64(record.digest))
      state.lost.push(...record.lost)
      state.writtenBytes = record.written
      return
    case 'copy all':
      state.copied = true
      return
    case 'check':
      state.checked = record.pieces
      state.checkedBytes = record.bytes ?? state.checkedBytes
      state.differ.push(...record.differ)
      return
    case 'check all':
      state.equal = true
      return
    case 'let go':
      state.letGo.set(record.target, record.why)
      return
    case 'end':
      state.ended = true
  }
}
