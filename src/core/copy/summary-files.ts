import { stringify } from 'csv-stringify/browser/esm/sync'
import type { CopySummary } from './progress'

/** A copy's summary as a table, one line for each partition, for a spreadsheet. Sizes in bytes, times in seconds. */
export function summaryCsv(summary: CopySummary): string {
  const rows = summary.partitions.map((p) => ({
    partition: p.number,
    name: p.title,
    read: p.mode === 'used' ? 'used blocks' : 'every sector',
    copied_bytes: p.bytes,
    skipped_bytes: p.skippedBytes,
    left_out_bytes: p.leftOut.reduce((sum, f) => sum + f.bytes, 0),
    lost_sectors: summary.lost.filter((l) => l.partition === p.number).reduce((sum, l) => sum + l.sectors, 0),
    lost_files: [...new Set(summary.lost.filter((l) => l.partition === p.number).flatMap((l) => l.files))].join('; '),
    seconds: Math.round(p.seconds * 10) / 10,
    bytes_per_second: p.seconds > 0 ? Math.round(p.bytes / p.seconds) : '',
    checked: summary.checkedBytes > 0 ? 'read back, equal' : 'not read back',
    digest: summary.digest,
    digest_kind: summary.digest ? summary.digestName : '',
  }))
  // Names come from the disk; a spreadsheet takes none of them for a formula.
  return stringify(rows, { header: true, escape_formulas: true })
}
