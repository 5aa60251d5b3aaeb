import * as z from 'zod'
import type { BlockDevice } from '../block/device'
import { SliceDevice } from '../block/slice'
import { formatSize } from '../bytes/size'
import type { Digest } from '../digest'
import { CoreError } from '../errors'
import { openFileSystem } from '../filesystem'
import { fitSizes, type Layout } from '../fit/types'
import type { MovedVolume } from '../repair/moved'
import { surveyDrive } from '../survey/survey'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import { counted } from '../words'
import { compareLetters } from './letters'
import { fileDigest, type VolumeSamples } from './samples'

/** One thing that was looked at after the start. */
export const ProofCheckSchema = z.object({
  id: z.string(),
  title: z.string(),
  passed: z.boolean(),
  found: z.string(),
  /** What it could not look at, one sentence each: as long as there is any, not everything is known to be there. */
  open: z.array(z.string()).optional(),
})
export type ProofCheck = z.infer<typeof ProofCheckSchema>

/** A file that is known to differ: its content was left out, it changed under the copy, or a repair wrote it. */
export interface Apart {
  readonly path: string
  /** Number of its partition on the target, or on the source. */
  readonly partition?: number
  readonly sourcePartition?: number
}

/** What the target was to become. */
export interface Planned {
  readonly layout: Layout
  /** What was read of the old drive before anything was copied. */
  readonly source: Pick<DriveSurvey, 'partitions'>
  /** What the copy took of the old drive's files; null of a copy that took none. */
  readonly samples: readonly VolumeSamples[] | null
  /** GUID of the partition that the system was started from; undefined where none has to be. */
  readonly startedGuid?: string
  readonly apart?: readonly Apart[]
  /** Sectors that the old drive did not give, and the files they belong to. */
  readonly lost?: { readonly sectors: number; readonly files: readonly string[] }
  /** Of one volume that went into a drive with others: the drive as it was before. */
  readonly before?: DriveSurvey
  /** Of a target beside its old drive: every volume of the move under its old name and its new one. */
  readonly moved?: readonly MovedVolume[]
  /** Partitions that took up more room after that, with their sizes in bytes. */
  readonly grown?: readonly { readonly partition: number; readonly sizeBytes: number }[]
}

/**
 * Looks at a target that has started: the system volume is the one on this drive, all volumes are there in
 * their planned sizes, sample files are what they were on the old drive, which is not needed for that. Nothing is
 * written. `fileDigest`: the one that the samples were taken with.
 */
export async function compareTarget(
  target: BlockDevice,
  planned: Planned,
  digests: { readonly digest: Digest; readonly fileDigest: Digest },
): Promise<ProofCheck[]> {
  const { layout, startedGuid, source, grown = [] } = planned
  const { digest, fileDigest } = digests
  const survey = await surveyDrive(target, digest)
  const checks: ProofCheck[] = []
  const running = survey.partitions.find((p) => p.guid === startedGuid)
  // Of several systems on one drive the one that started.
  const system =
    layout.partitions.find((p) => p.role === 'system' && p.guid === startedGuid) ??
    layout.partitions.find((p) => p.role === 'system')
  // A second system on the drive is another start, which nobody has followed.
  const others = layout.partitions.filter((p) => p.role === 'system' && p !== system)
  const isPlanned = running !== undefined && running.guid === system?.guid && running.firstLba === system.firstLba
  checks.push({
    id: 'system-volume',
    title: 'System volume is on the new drive',
    passed: isPlanned,
    found: !running
      ? 'not found'
      : `${running.title}, partition ${running.number}${isPlanned ? '' : ', where the plan has no system'}`,
    ...openOf(others.map((p) => `${p.title}, another system on this drive, was not started.`)),
  })
  checks.push(comparePartitions(survey, layout, source))
  if (planned.before) checks.push(compareOthers(survey, layout, planned.before))
  const wrong = layout.partitions.filter((p) => {
    const now = survey.partitions.find((s) => s.guid === p.guid)
    const grownVolume =
      now?.volume && now.volume.canGrow && now.volume.totalBytes < now.sizeBytes - now.volume.clusterSize
    return now?.sizeBytes !== sizeNow(p, layout, grown) || grownVolume
  })
  const shown = system && survey.partitions.find((s) => s.guid === system.guid)
  checks.push({
    id: 'sizes',
    title: 'Sizes as planned',
    passed: wrong.length === 0,
    found:
      wrong.length > 0 ? wrong.map((p) => p.title).join(', ') : `${shown?.title} ${formatSize(shown?.sizeBytes ?? 0)}`,
  })
  if (planned.moved) checks.push(await compareLetters(target, planned.moved, system?.guid))
  checks.push(await compareSamples(target, planned, fileDigest))
  const { lost } = planned
  if (lost && lost.sectors > 0) {
    const names = lost.files.length > 0 ? lost.files.slice(0, 3).join(', ') : 'no known file'
    const more = lost.files.length > 3 ? ` and ${lost.files.length - 3} more` : ''
    checks.push({
      id: 'lost',
      title: 'What the old drive did not give',
      passed: true,
      found: `${counted(lost.sectors, 'sector')}, in ${names}${more}`,
      open: [`${counted(lost.sectors, 'sector')} of the old drive could not be read.`],
    })
  }
  return checks
}

const openOf = (open: readonly string[]) => (open.length > 0 ? { open: [...open] } : {})

/** Every partition in its place, and nothing wrong with any that was not wrong on the source. */
function comparePartitions({ partitions }: DriveSurvey, layout: Layout, source: Planned['source']): ProofCheck {
  const nowOf = (p: Layout['partitions'][number]) => partitions.find((s) => s.guid === p.guid && s.number === p.number)
  const missing = layout.partitions.filter((p) => !nowOf(p)).map((p) => `${p.title} is missing`)
  const troubled = layout.partitions.flatMap((p) => {
    const wrong = nowOf(p)?.findings.filter((f) => f.severity !== 'note') ?? []
    return wrong.length > 0 ? [{ p, wrong }] : []
  })
  const wrong = troubled.flatMap(({ p, wrong }) => {
    const known = source.partitions.find((s) => s.number === p.sourceNumber)?.findings ?? []
    const [first] = wrong.filter((f) => !known.some((k) => k.code === f.code))
    return first ? [`${p.title}: ${first.sentence}`] : []
  })
  const count = layout.partitions.length
  const asBefore = troubled.length - wrong.length
  return {
    id: 'volumes',
    title: 'All partitions are there',
    passed: missing.length === 0 && wrong.length === 0,
    found:
      [...missing, ...wrong].slice(0, 3).join('; ') ||
      `${count} of ${count}, ${asBefore > 0 ? 'nothing wrong that was not before' : 'nothing wrong with them'}`,
  }
}

/** Every other partition of a drive that a volume came into: its entry, and what its file system says of itself. */
function compareOthers(now: DriveSurvey, { partitions: [into] }: Layout, before: DriveSurvey): ProofCheck {
  const told = ({ number, typeGuid, guid, name, attributes, mbr, firstLba, lastLba, volume }: PartitionSurvey) =>
    JSON.stringify([
      ...[number, typeGuid, guid, name, attributes, mbr?.type, mbr?.active, firstLba, lastLba],
      ...[volume?.kind, volume?.label, volume?.serial, volume?.totalBytes],
    ])
  const others = before.partitions.filter((p) => p.number !== into.number)
  const there = new Set(now.partitions.map(told))
  const changed = others.filter((p) => !there.has(told(p)))
  const more = now.partitions.filter((p) => p.number !== into.number && !others.some((o) => o.number === p.number))
  const wrong = [
    ...changed.map((p) => `${p.title} is not as it was`),
    ...more.map((p) => `${p.title} was not there before`),
  ]
  return {
    id: 'others',
    title: 'All other partitions are as they were',
    passed: wrong.length === 0,
    found: wrong.slice(0, 3).join('; ') || `${others.length} of ${others.length}, by table and file system`,
  }
}

/** Bytes of a partition as planned, or as it became when it took up more room. */
function sizeNow(p: Layout['partitions'][number], layout: Layout, grown: NonNullable<Planned['grown']>): number {
  return grown.findLast((g) => g.partition === p.number)?.sizeBytes ?? fitSizes(p, layout).after
}

async function compareSamples(
  target: BlockDevice,
  { layout, samples, apart = [], grown = [] }: Planned,
  digest: Digest,
): Promise<ProofCheck> {
  const check = { id: 'samples', title: 'Sample files are equal' }
  if (!samples)
    return { ...check, passed: false, found: 'the copy took no digests of the old drive’s files to compare with' }
  let compared = 0
  const open: string[] = []
  let unread = 0
  const different: string[] = []
  for (const { partition, title, files } of samples) {
    const p = layout.partitions.find((one) => one.number === partition)
    const known = new Set(
      apart.filter((a) => a.partition === partition || (p && a.sourcePartition === p.sourceNumber)).map((a) => a.path),
    )
    const before = compared
    try {
      const device = p && new SliceDevice(target, p.firstLba * layout.sectorSize, sizeNow(p, layout, grown))
      const volume = device && (await openFileSystem(device))
      for (const { path, digest: wanted } of files) {
        if (known.has(path)) continue
        // What the old drive did not give cannot be compared with; the copy has named it as lost.
        if (wanted === null) {
          unread++
          continue
        }
        compared++
        if (!volume || wanted !== (await fileDigest(volume, path, digest))) different.push(`${title}: ${path}`)
      }
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
      different.push(`${title}: ${error.message}`)
    }
    const nothing = compared === before && files.some(({ path }) => !known.has(path))
    if (nothing) open.push(`Nothing of ${title} could be compared.`)
  }
  if (unread > 0) open.push(`${counted(unread, 'file')} could not be compared: the old drive did not give them.`)
  const unseen = samples.filter((s) => s.why !== null)
  // Into what is encrypted nobody sees from here; it was copied whole and read back.
  open.push(...unseen.map((s) => `Nothing of ${s.title} was compared: ${s.why}`))
  const noneSeen = samples.length === unseen.length
  return {
    ...check,
    passed: different.length === 0 && (compared > 0 || noneSeen),
    found:
      different.length > 0
        ? different.slice(0, 3).join('; ')
        : noneSeen
          ? 'no volume whose files can be read from here'
          : [
              `${counted(compared, 'file')} compared`,
              ...(unread > 0 ? [`${unread} the old drive did not give`] : []),
              ...unseen.map((s) => `none of ${s.title}: ${s.why}`),
            ].join('; '),
    ...openOf(open),
  }
}
