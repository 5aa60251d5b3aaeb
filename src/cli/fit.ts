import { randomUUID } from 'node:crypto'
import { stat } from 'node:fs/promises'
import type { BlockDevice } from '@/core/block/device'
import { formatSize, parseSize } from '@/core/bytes/size'
import { planCopy } from '@/core/copy/plan'
import { wholeTarget } from '@/core/copy/whole'
import { movedPartitions } from '@/core/fit/ends'
import { defaultWish, solveFit } from '@/core/fit/solve'
import { fitSizes, type FitResult, type FitWish, FitWishSchema, type Layout, type SizeRule } from '@/core/fit/types'
import { type TargetKind, TARGETS } from '@/core/image'
import { mappedExtents } from '@/core/image/convert'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { type ImageContent, writeImage } from '@/host/write-image'
import { byExtension, type Io, json, percentOn, type Options, sha256, STOPS } from './commands'
import { withImage, WrongUse } from './open'
import { fitText } from './text'

export interface FitOptions extends Options {
  readonly targetSize?: number
  readonly targetSectorSize?: 512 | 4096
  readonly rule?: readonly string[]
  readonly reserve?: number
  readonly scheme?: 'gpt' | 'mbr'
  readonly order?: readonly number[]
  readonly leaveOut?: readonly number[]
  readonly align?: number
  readonly newIdentity?: 'disk' | 'all'
}

export interface CopyOptions extends FitOptions {
  readonly everySector?: boolean
  readonly overwrite?: boolean
}

const RULES: readonly SizeRule[] = ['keep', 'fill', 'share', 'least']

/** Prints where everything of an image would go on a drive of another size. Exit code 1 when it does not fit. */
export async function fit(file: string, options: FitOptions, io: Io): Promise<number> {
  const report = await withImage(file, undefined, async ({ device }) => {
    const survey = await surveyDrive(device, sha256)
    const result = solveFit(survey, targetOf(survey, options), wishOf(survey, options))
    return { file, ...fitReport(result) }
  })
  await io.print(options.json ? json(report) : fitText(report))
  return report.fits ? 0 : STOPS
}

/** Writes an image onto a new one with its fit, reads it back, and prints what was done. */
export async function copy(input: string, output: string, options: CopyOptions, io: Io): Promise<number> {
  const to = options.to ?? byExtension(output)
  await refuseSame(input, output)
  const start = performance.now()
  const report = await withImage(input, options.sectorSize, async ({ device }) => {
    const job = options.everySector ? everySector(device, options) : await byFit(device, options)
    if ('refused' in job) return { source: input, target: output, ...fitReport(job.refused) }
    const written = await writeImage(job, output, {
      to,
      overwrite: options.overwrite,
      signal: io.signal,
      time: Date.now(),
      guid: randomUUID,
      onProgress: percentOn(io),
    })
    const result = {
      source: input,
      target: output,
      format: to,
      ...written,
      ...(job.fit ? fitReport(job.fit) : { fits: true }),
    }
    return { ...result, seconds: Math.round((performance.now() - start) / 10) / 100 }
  })
  await io.print(options.json ? json(report) : 'writtenBytes' in report ? copyText(report) : fitText(report))
  return report.fits ? 0 : STOPS
}

interface Job extends ImageContent {
  readonly fit?: FitResult
}

function everySector(device: BlockDevice, { targetSize, rule }: CopyOptions): Job {
  if ((targetSize ?? device.size) !== device.size || rule) {
    throw new WrongUse('Every sector can only go to a target of the same size, and no rules apply to it.')
  }
  return { device, extents: () => mappedExtents(device) }
}

async function byFit(device: BlockDevice, options: CopyOptions): Promise<Job | { refused: FitResult }> {
  const survey = await surveyDrive(device, sha256)
  const hasTable = survey.scheme === 'gpt' || survey.scheme === 'mbr'
  // What has no table that could be laid out is taken as it is.
  if (!hasTable && options.targetSize === undefined && !options.rule) return everySector(device, options)
  const result = solveFit(survey, targetOf(survey, options), wishOf(survey, options))
  if (!result.fits) return { refused: result }
  const { device: whole, extents } = await wholeTarget(await planCopy(device, result.layout))
  return { device: whole, extents, fit: result }
}

async function refuseSame(input: string, output: string): Promise<void> {
  const [from, to] = await Promise.all([input, output].map((file) => stat(file).catch(() => undefined)))
  if (from && to && from.ino === to.ino && from.dev === to.dev) {
    throw new WrongUse('The target is the source itself, which is never written.')
  }
}

function targetOf(survey: DriveSurvey, { targetSize, targetSectorSize }: FitOptions) {
  const logicalSectorSize = targetSectorSize ?? survey.logicalSectorSize
  const sizeBytes = Math.floor((targetSize ?? survey.sizeBytes) / logicalSectorSize) * logicalSectorSize
  return { sizeBytes, logicalSectorSize }
}

/** Without a size every partition keeps its own; with one the system takes what is left; rules change either. */
function wishOf(survey: DriveSurvey, options: FitOptions): FitWish {
  const base = options.targetSize === undefined ? { rules: {}, sizes: {}, reserve: 0 } : defaultWish(survey)
  const rules = { ...base.rules }
  const sizes: Record<string, number> = {}
  const known = movedPartitions(survey)
  for (const text of options.rule ?? []) {
    const [, number, what] = /^(\d+)=(.+)$/.exec(text) ?? []
    const partition = known.find((p) => p.number === Number(number))
    if (!number || !what)
      throw new WrongUse(`A rule is a partition and what it gets, such as 3=fill or 3=350GiB, not ${text}.`)
    if (!partition) throw new WrongUse(`There is no partition ${number} to lay out.`)
    const rule = RULES.find((r) => r === what)
    const bytes = rule ? undefined : sizeOf(what, partition.sizeBytes)
    rules[number] = rule ?? 'set'
    if (bytes !== undefined) sizes[number] = bytes
  }
  return FitWishSchema.parse({
    rules,
    sizes,
    reserve: options.reserve ?? 0,
    ...(options.scheme ? { scheme: options.scheme } : {}),
    ...(options.order ? { order: options.order } : {}),
    ...(options.leaveOut ? { leaveOut: options.leaveOut } : {}),
    ...(options.align ? { alignBytes: options.align } : {}),
    ...(options.newIdentity ? { identity: { of: options.newIdentity, seed: randomUUID() } } : {}),
  })
}

/** Bytes as digits alone, or a size with a unit, or one taken from `now`. Throws WrongUse. */
export function sizeOf(text: string, now = 0): number {
  const bytes = /^\d+$/.test(text) ? Number(text) : parseSize(text, now)
  if (bytes === undefined || !Number.isSafeInteger(Math.round(bytes)) || bytes <= 0) {
    throw new WrongUse(`${text} is no size; say bytes, or such as 350GiB or 1.5TB.`)
  }
  return Math.round(bytes)
}

/** A fit as the command tells it. Sizes in bytes, sectors of the target. */
export function fitReport(result: FitResult) {
  if (!result.fits) return { fits: false as const, obstacles: result.obstacles, nearest: result.nearest?.says ?? null }
  const { layout, headline, reason, notes } = result
  return {
    fits: true as const,
    headline,
    reason,
    notes,
    scheme: layout.scheme,
    diskIdentity: layout.scheme === 'gpt' ? layout.diskGuid : layout.diskSignature,
    sectorSize: layout.sectorSize,
    targetBytes: layout.targetSizeBytes,
    partitions: layout.partitions.map((p) => partitionReport(p, layout)),
    unallocated: layout.gaps.map((g) => ({ firstSector: g.firstLba, lastSector: g.lastLba, lengthBytes: g.sizeBytes })),
    changes: layout.changes.map((c) => c.sentence),
  }
}
export type FitReport = ReturnType<typeof fitReport>

function partitionReport(p: Layout['partitions'][number], layout: Layout) {
  const { before, after } = fitSizes(p, layout)
  return {
    number: p.number,
    sourceNumber: p.sourceNumber,
    title: p.title,
    rule: p.rule,
    type: p.mbr ? `0x${p.mbr.type.toString(16).padStart(2, '0')}` : p.typeGuid,
    guid: p.guid,
    firstSector: p.firstLba,
    lastSector: p.lastLba,
    beforeBytes: before,
    lengthBytes: after,
    leastBytes: p.leastBytes,
    resizes: p.resizes,
  }
}

function copyText(report: {
  target: string
  format: TargetKind
  sizeBytes: number
  writtenBytes: number
  seconds: number
  headline?: string
  reason?: string
}): string {
  const fitted = report.headline ? `${report.headline}. ${report.reason}\n` : ''
  return `${fitted}${report.target}: ${TARGETS[report.format].name}, disk of ${report.sizeBytes} bytes; ${formatSize(report.writtenBytes)} written, read back and equal, ${report.seconds.toFixed(1)} s\n`
}
