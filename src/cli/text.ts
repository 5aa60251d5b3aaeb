import { formatSize } from '@/core/bytes/size'
import type { DirectoryEntry } from '@/core/filesystem'
import { counted } from '@/core/words'
import type { LostInImage } from '@/core/image/lost'
import type { FitReport } from './fit'
import type { SurveyReport } from './report'

/** What an image did not give, as lines; empty where it gave everything. */
export function lostInImageText({ sectors, files }: LostInImage): string {
  if (sectors === 0) return ''
  const names = files.map(({ partition, path }) => `  partition ${partition}: ${path}\n`).join('')
  return `${counted(sectors, 'sector')} could not be read; zeros stand in their place.\n${names}`
}

/** Columns padded to their widest cell; numbers to the right. */
function table(rows: readonly (readonly string[])[], right: readonly number[] = []): string {
  const widths = rows[0].map((_, column) => Math.max(...rows.map((row) => row[column].length)))
  return rows
    .map((row) =>
      row
        .map((cell, i) => (right.includes(i) ? cell.padStart(widths[i]) : cell.padEnd(widths[i])))
        .join('  ')
        .trimEnd(),
    )
    .join('\n')
}

export function surveyText(report: SurveyReport): string {
  const { image, scheme, state, sectorSize, sizeBytes, partitions, unallocated, findings } = report
  const lines = [
    `${report.file}: ${image.name}, disk of ${formatSize(sizeBytes)} (${sizeBytes} bytes), sectors of ${sectorSize}`,
    ...(report.plate === undefined ? [] : [`Plate: ${report.plate}, which --plate takes before it is written over`]),
    `Partition table: ${scheme === 'none' ? 'none' : scheme.toUpperCase()}${report.diskIdentity ? `, ${report.diskIdentity}` : ''}${state === 'sound' ? '' : ` (${state})`}`,
  ]
  if (partitions.length > 0) {
    const rows = partitions.map((p) => [
      String(p.number),
      p.title,
      p.role,
      p.fileSystem?.name || p.fileSystem?.kind || '',
      formatSize(p.startBytes),
      formatSize(p.lengthBytes),
      p.fileSystem ? formatSize(p.fileSystem.usedBytes) : '',
      p.fileSystem?.state ?? '',
      p.system ? [p.system.name, p.system.version].filter(Boolean).join(' ') : '',
    ])
    lines.push(
      '',
      table(
        [['No.', 'Name', 'Role', 'File system', 'Start', 'Size', 'Used', 'State', 'System'], ...rows],
        [0, 4, 5, 6],
      ),
    )
  }
  for (const gap of unallocated) {
    lines.push(`Unallocated: ${formatSize(gap.lengthBytes)} from ${formatSize(gap.startBytes)}`)
  }
  if (findings.length > 0) {
    lines.push('')
    for (const { severity, message, evidence, partition } of findings) {
      const where = partition === undefined ? '' : `partition ${partition}: `
      lines.push(`${severity}: ${where}${message}${evidence ? ` [${evidence}]` : ''}`)
    }
  }
  return `${lines.join('\n')}\n`
}

/** A fit as a table, or why there is none. */
export function fitText(report: FitReport): string {
  if (!report.fits) {
    const lines = report.obstacles.map((o) => `${o.sentence} ${o.mend}`)
    if (report.nearest) lines.push(`This would fit: ${report.nearest}.`)
    return `${lines.join('\n')}\n`
  }
  const rows = report.partitions.map((p) => [
    String(p.number),
    p.title,
    p.rule,
    formatSize(p.beforeBytes),
    formatSize(p.lengthBytes),
    formatSize(p.leastBytes),
    String(p.firstSector),
    String(p.lastSector),
  ])
  const head = ['No.', 'Name', 'Rule', 'Now', 'After', 'Least', 'First sector', 'Last sector']
  const lines = [`${report.headline}. ${report.reason}`, '', table([head, ...rows], [0, 3, 4, 5, 6, 7])]
  for (const gap of report.unallocated)
    lines.push(`Unallocated: ${formatSize(gap.lengthBytes)} from sector ${gap.firstSector}`)
  for (const { sentence } of report.notes) lines.push(sentence)
  lines.push(...report.changes)
  return `${lines.join('\n')}\n`
}

export function filesText(entries: readonly DirectoryEntry[]): string {
  if (entries.length === 0) return ''
  const rows = entries.map((e) => [
    e.kind === 'directory' ? 'folder' : e.kind,
    e.kind === 'directory' ? '' : String(e.sizeBytes),
    e.name,
  ])
  return `${table(rows, [1])}\n`
}

interface ComparisonReport {
  readonly a: string
  readonly b: string
  readonly unreadable: readonly [number, number]
  readonly equal: boolean
  readonly sizes: readonly [number, number]
  readonly firstDifference: { readonly offset: number; readonly sector: number } | null
  readonly differingBytes: number
  readonly moreRanges: boolean
  readonly touched: {
    readonly partitions: readonly number[]
    readonly files: readonly { readonly partition: number; readonly path: string }[]
    readonly outside: boolean
    readonly incomplete: boolean
  } | null
}

export function comparisonText(report: ComparisonReport): string {
  if (report.equal) return `Equal: ${report.sizes[0]} bytes.\n`
  const lines: string[] = []
  if (report.sizes[0] !== report.sizes[1])
    lines.push(`The sizes differ: ${report.sizes[0]} and ${report.sizes[1]} bytes.`)
  report.unreadable.forEach((sectors, i) => {
    if (sectors > 0) lines.push(`${counted(sectors, 'sector')} of ${[report.a, report.b][i]} could not be read.`)
  })
  if (report.firstDifference) {
    const { offset, sector } = report.firstDifference
    lines.push(`They first differ at byte ${offset}, sector ${sector}; ${report.differingBytes} bytes differ in all.`)
  } else lines.push('All that both have is the same.')
  const { touched } = report
  if (touched) {
    if (touched.outside) lines.push('Outside all partitions, as in the partition table.')
    if (touched.partitions.length > 0) lines.push(`In partition ${touched.partitions.join(', ')}.`)
    for (const { partition, path } of touched.files) lines.push(`  partition ${partition}: ${path}`)
    if (touched.incomplete) lines.push('  Not all files could be looked through.')
  }
  return `${lines.join('\n')}\n`
}
