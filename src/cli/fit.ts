import { randomUUID } from 'node:crypto'
import { GIB, parseSize } from '@/core/bytes/size'
import { movedPartitions } from '@/core/fit/ends'
import { rehearsed } from '@/core/fit/rehearse'
import { defaultWish, solveFit } from '@/core/fit/solve'
import { fitSizes, type FitResult, type FitWish, FitWishSchema, type Layout, type SizeRule } from '@/core/fit/types'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { sha256 } from '@/host/sha256'
import { type Io, json, type Options, STOPS } from './commands'
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
  readonly label?: readonly string[]
}

const RULES: readonly SizeRule[] = ['keep', 'fill', 'share', 'least']

/** Prints where everything of an image would go on a drive of another size. Exit code 1 when it does not fit. */
export async function fit(file: string, options: FitOptions, io: Io): Promise<number> {
  const report = await withImage(file, { ...options, sectorSize: undefined }, async ({ device }) => {
    const survey = await surveyDrive(device, sha256)
    const result = await rehearsed(device, solveFit(survey, targetOf(survey, options), wishOf(survey, options)))
    return { file, ...fitReport(result) }
  })
  await io.print(options.json ? json(report) : fitText(report))
  return report.fits ? 0 : STOPS
}

export function targetOf(survey: DriveSurvey, { targetSize, targetSectorSize }: FitOptions) {
  const logicalSectorSize = targetSectorSize ?? survey.logicalSectorSize
  const sizeBytes = Math.floor((targetSize ?? survey.sizeBytes) / logicalSectorSize) * logicalSectorSize
  return { sizeBytes, logicalSectorSize }
}

/** Without a size every partition keeps its own; with one the system takes what is left; rules change either. */
export function wishOf(survey: DriveSurvey, options: FitOptions): FitWish {
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
  const labels = Object.fromEntries(
    (options.label ?? []).map((text) => {
      const [, number, label] = /^(\d+)=(.*)$/.exec(text) ?? []
      if (number === undefined)
        throw new WrongUse(`A label is a partition and what its volume is called, such as 3=Harbour, not ${text}.`)
      if (!known.some((p) => p.number === Number(number)))
        throw new WrongUse(`There is no partition ${number} to lay out.`)
      return [number, label]
    }),
  )
  const parts = new Set(known.map((p) => p.number))
  const strange = [...(options.order ?? []), ...(options.leaveOut ?? [])].find((n) => !parts.has(n))
  if (strange !== undefined) throw new WrongUse(`There is no partition ${strange} to lay out.`)
  const { align } = options
  if (align !== undefined && (align < 4096 || align > GIB || align % 4096 !== 0)) {
    throw new WrongUse(`Starts are aligned to a multiple of 4096 bytes, at most 1 GiB, not to ${align} bytes.`)
  }
  return FitWishSchema.parse({
    rules,
    sizes,
    reserve: options.reserve ?? 0,
    ...(options.scheme ? { scheme: options.scheme } : {}),
    ...(options.order ? { order: options.order } : {}),
    ...(options.leaveOut ? { leaveOut: options.leaveOut } : {}),
    ...(options.align ? { alignBytes: options.align } : {}),
    ...(options.label ? { labels } : {}),
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
    label: p.label ?? null,
    firstSector: p.firstLba,
    lastSector: p.lastLba,
    beforeBytes: before,
    lengthBytes: after,
    leastBytes: p.leastBytes,
    resizes: p.resizes,
  }
}
