/** How much a finding matters: a note explains, a caution wants a look, damage is broken on the disk. */
export type Severity = 'note' | 'caution' | 'damage'

/** One thing that was noticed while reading, in words for a technician and with the evidence. */
export interface Finding {
  readonly severity: Severity
  /** Stable name for programs, for example `gpt.backup-misplaced`. */
  readonly code: string
  readonly sentence: string
  /** What was read, verbatim: values, offsets, checksums. */
  readonly evidence?: string
}
