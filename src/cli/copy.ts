import { readFile, stat, writeFile } from 'node:fs/promises'
import path from 'node:path'
import type { BlockDevice } from '@/core/block/device'
import { formatSize } from '@/core/bytes/size'
import { CoreError } from '@/core/errors'
import { type LostFile, readLostFile } from '@/core/copy/lost-file'
import { type CopyPlan, planCopy } from '@/core/copy/plan'
import { planWhole } from '@/core/copy/plan-whole'
import { copyShare, type Lost, lostWords } from '@/core/copy/progress'
import { retryLost } from '@/core/copy/retry'
import { carriesTable, type CopyOutcome, type CopyStep } from '@/core/copy/run'
import { toHex } from '@/core/digest'
import { solveFit } from '@/core/fit/solve'
import type { FitResult } from '@/core/fit/types'
import { type TargetKind, TARGETS } from '@/core/image'
import { surveyDrive } from '@/core/survey/survey'
import { isDevicePath } from '@/host/devices/device-file'
import type { HostImage } from '@/host/images'
import { RawFile } from '@/host/raw-file'
import { resolveTarget } from '@/host/target-name'
import { BLAKE3 } from '@/host/strong-digest'
import { unfinishedName, writeImage } from '@/host/write-image'
import { sha256 } from '@/host/sha256'
import { byExtension, type Io, json, Stopped, STOPS } from './commands'
import { type FitOptions, fitReport, targetOf, wishOf } from './fit'
import { ChangedMeanwhile, fileIdentity, withImage, WrongUse } from './open'
import { isNbdAddress } from '@/nbd/address'
import { type Onto, writeOnto } from './onto'
import { openDeviceTarget } from './onto-device'
import { openLentTarget } from './onto-lent'
import { fitText } from './text'

export interface CopyOptions extends FitOptions {
  readonly everySector?: boolean
  /** Partitions of which every sector is taken. */
  readonly everyOf?: readonly number[]
  readonly skipPageFiles?: boolean
  readonly overwrite?: boolean
  /** The last four characters of a drive's serial, before it is written over. */
  readonly plate?: string
  /** False for a copy that is not read back. */
  readonly verify?: boolean
  readonly journal?: string
  readonly resume?: boolean
  readonly lostList?: string
  /** On resuming, compares every piece that was copied before with the source and the target, not a sample. */
  readonly recheckAll?: boolean
}

/** What is to be copied: the plan, the fit that it follows, and a digest of all that decides what is written. */
interface Job {
  readonly plan: CopyPlan
  readonly fit?: FitResult
  readonly work: string
}

/** How often progress is told. */
const TELL_EVERY_MS = 500

/** Writes an image onto a new one with its fit, reads it back, and prints what was done. */
export async function copy(input: string, output: string, options: CopyOptions, io: Io): Promise<number> {
  const isDisk = isNbdAddress(output) || (await isDevicePath(output))
  const to = options.to ?? (isDisk ? 'raw' : byExtension(output))
  if (options.resume && !options.journal) throw new WrongUse('Going on needs the journal of the copy: --journal FILE.')
  if (isDisk && (to !== 'raw' || options.lostList))
    throw new WrongUse('Onto a drive a disk is copied as it is, without a list of lost sectors.')
  if (to !== 'raw' && options.lostList) throw new WrongUse('A list of lost sectors is for raw targets.')
  const start = performance.now()
  const copyFrom = async (image: HostImage) => {
    const { device, paths } = image
    await refuseOwn(paths, output, options)
    const unchanged = async () => {
      if (await image.changed()) throw new ChangedMeanwhile(input)
    }
    const onto = isDisk ? await openOnto(output, image, options, io) : undefined
    try {
      if (!onto) await resolveTarget(output)
      const job = await jobOf(device, onto ? { ...options, ...sizeOf(onto) } : options)
      if ('refused' in job) return { source: input, target: output, ...fitReport(job.refused) }
      const written = onto
        ? await writeDisk(job, onto, { input, output }, options, unchanged, io)
        : await write(job, { input, output, to }, options, unchanged, io)
      const toKnow = await onto?.after?.()
      if (toKnow) io.warn(toKnow)
      return reportOf(job, written)
    } finally {
      await onto?.close()
    }
  }
  const reportOf = (job: Job, written: Awaited<ReturnType<typeof write>>) => {
    const fit = job.fit ? fitReport(job.fit) : { fits: true as const }
    const seconds = Math.round((performance.now() - start) / 10) / 100
    const maps = job.plan.partitions.flatMap(({ number, title, map, mapFinding }) =>
      map === undefined || map === 'checked' ? [] : [{ partition: number, title, map, finding: mapFinding ?? null }],
    )
    const wholeVolumes = job.plan.partitions.flatMap(({ number, title, everySector }) =>
      everySector === undefined ? [] : [{ partition: number, title, reason: everySector }],
    )
    return { source: input, target: output, format: to, ...written, ...fit, wholeVolumes, maps, seconds }
  }
  // A source that is changed meanwhile is met before the target becomes whole.
  const report = await withImage(input, options, copyFrom, { checked: true })
  const text = 'writtenBytes' in report ? copyText(report) : fitText(report)
  await io.print(options.json ? json(report) : text)
  return report.fits && !('lost' in report && report.lost.length > 0) ? 0 : STOPS
}

const openOnto = (output: string, image: HostImage, options: CopyOptions, io: Io): Promise<Onto> =>
  isNbdAddress(output)
    ? openLentTarget(output, image.device.logicalSectorSize, options, io)
    : openDeviceTarget(output, image, options)

const sizeOf = ({ device }: Onto) => ({
  targetSize: device.size,
  targetSectorSize: device.logicalSectorSize,
})

/** The same onto a disk that keeps its size. */
async function writeDisk(
  { plan, work }: Job,
  onto: Onto,
  { input, output }: { input: string; output: string },
  options: CopyOptions,
  unchanged: () => Promise<void>,
  io: Io,
) {
  const { verify = true, journal, resume } = options
  const outcome = await writeOnto(plan, onto, {
    note: `${path.basename(input)} to ${output}`.slice(0, 200),
    ...{ work, verify, journal, resume },
    recheck: options.recheckAll ? 'every' : 'sample',
    beforeTables: unchanged,
    checkpoint: () => io.signal.throwIfAborted(),
    onStep: tell(plan, verify, options.json === true, io),
  }).catch(whenStopped(onto.called, journal))
  return outcomeOf(plan, outcome)
}

async function write(
  job: Job,
  { input, output, to }: { input: string; output: string; to: TargetKind },
  options: CopyOptions,
  unchanged: () => Promise<void>,
  io: Io,
) {
  const { plan } = job
  const { verify = true, journal, resume, overwrite, lostList } = options
  const earlier = resume && lostList ? await earlierLost(lostList) : undefined
  if (earlier && (await isWhole(output, plan))) return retry(job, earlier, output, lostList!)
  const copying = writeImage(plan, output, {
    to,
    time: Date.now(),
    note: `${path.basename(input)} to ${path.basename(output)}`,
    work: job.work,
    verify,
    overwrite,
    journal,
    resume,
    recheck: options.recheckAll ? 'every' : 'sample',
    beforeTables: unchanged,
    checkpoint: () => io.signal.throwIfAborted(),
    onStep: tell(plan, verify, options.json === true, io),
  })
  const outcome = await copying.catch(whenStopped(unfinishedName(output), journal))
  if (lostList && outcome.lost.length > 0) await saveLost(lostList, job, outcome.lost, input, output)
  return outcomeOf(plan, outcome)
}

function outcomeOf(plan: CopyPlan, outcome: CopyOutcome) {
  return {
    sizeBytes: plan.expected.size,
    copiedBytes: outcome.copiedBytes,
    writtenBytes: outcome.writtenBytes,
    verified: outcome.checkedBytes > 0,
    digest: outcome.digest,
    digestName: BLAKE3,
    rewritten: outcome.rewritten,
    lost: [...outcome.lost],
  }
}

/** For `catch`: says of a copy that a person stopped how it is gone on with. */
export function whenStopped(left: string, journal: string | undefined) {
  return (error: unknown): never => {
    if (!(error instanceof Stopped) || !journal) throw error
    throw new CoreError(
      `Stopped. ${left} stays, marked as unfinished; the same command with --resume continues from ${journal}.`,
    )
  }
}

/** Another pass over the sectors of a list, of a copy that ended before. */
async function retry({ plan, work }: Job, earlier: LostFile, output: string, lostList: string) {
  if (earlier.work !== work) {
    throw new WrongUse(`${lostList} is of another copy: its source or its fit is another one.`)
  }
  const target = await RawFile.open(output, plan.expected.logicalSectorSize)
  try {
    const { wonBytes, lost } = await retryLost(plan, target, earlier.lost)
    await writeFile(lostList, `${JSON.stringify({ ...earlier, lost }, null, 2)}\n`)
    return {
      sizeBytes: plan.expected.size,
      copiedBytes: wonBytes,
      writtenBytes: wonBytes,
      verified: true,
      digest: '',
      digestName: BLAKE3,
      rewritten: 0,
      lost: [...lost],
    }
  } finally {
    await target.close()
  }
}

/** The target carries its table, so its copy has ended. */
async function isWhole(output: string, { expected, tables }: CopyPlan): Promise<boolean> {
  const target = await RawFile.open(output, expected.logicalSectorSize)
  try {
    return target.size === expected.size && (await carriesTable(target, tables))
  } finally {
    await target.close()
  }
}

async function earlierLost(file: string): Promise<LostFile | undefined> {
  const text = await readFile(file, 'utf8').catch(() => undefined)
  return text === undefined ? undefined : readLostFile(text)
}

async function saveLost(file: string, { plan, work }: Job, lost: readonly Lost[], input: string, output: string) {
  const list: LostFile = {
    format: 'imbarco lost sectors',
    version: 1,
    work,
    source: { name: path.basename(input), sizeBytes: (await stat(input)).size },
    target: { name: path.basename(output), sizeBytes: plan.expected.size },
    lost: [...lost],
  }
  await writeFile(file, `${JSON.stringify(list, null, 2)}\n`)
}

/** Tells how far it is, now and then and whenever a phase begins: for programs a line of JSON on standard error, for people the share of it. */
export function tell(plan: CopyPlan, verify: boolean, forPrograms: boolean, io: Io) {
  let last = -Infinity
  let told: CopyStep['phase'] | undefined
  const done = { copied: 0, checked: 0 }
  return async ({ phase, bytes }: CopyStep): Promise<void> => {
    if (phase === 'copy' || phase === 'rescue') done.copied += bytes
    if (phase === 'check') done.checked += bytes
    if (phase === told && performance.now() - last < TELL_EVERY_MS) return
    last = performance.now()
    told = phase
    const now = { copiedBytes: done.copied, checkedBytes: done.checked, totalBytes: plan.totalBytes }
    if (forPrograms) io.tell({ phase, ...now })
    else io.say(`${Math.floor(copyShare({ ...now, verify }) * 100)} %`)
  }
}

async function jobOf(device: BlockDevice, options: CopyOptions): Promise<Job | { refused: FitResult }> {
  const survey = await surveyDrive(device, sha256)
  const hasTable = survey.scheme === 'gpt' || survey.scheme === 'mbr'
  // What has no table that could be laid out is taken as it is.
  const asItIs = options.everySector || (!hasTable && options.targetSize === undefined && !options.rule)
  if (asItIs) {
    if ((options.targetSize ?? device.size) !== device.size || options.rule) {
      throw new WrongUse('Every sector can only go to a target of the same size, and no rules apply to it.')
    }
    return { plan: await planWhole(device), work: workOf(['whole', device.size, survey.fingerprint]) }
  }
  const result = solveFit(survey, targetOf(survey, options), wishOf(survey, options))
  if (!result.fits) return { refused: result }
  const strange = options.everyOf?.find((n) => !survey.partitions.some((p) => p.number === n))
  if (strange !== undefined) throw new WrongUse(`There is no partition ${strange} on the source.`)
  const mapsUnchecked = options.checkMap === false
  const scope = { skipPageFiles: options.skipPageFiles === true, everyOf: options.everyOf ?? [], mapsUnchecked }
  const plan = await planCopy(device, result.layout, scope)
  return { plan, fit: result, work: workOf([result.layout, scope, survey.fingerprint]) }
}

/** Digest of all that decides what is written. */
export const workOf = (what: unknown) => toHex(sha256(Buffer.from(JSON.stringify(what))))

/** Refuses to write what the source is read from, and what is not what it should be. */
export async function refuseOwn(
  sources: readonly string[],
  output: string,
  { journal, lostList, resume }: Pick<CopyOptions, 'journal' | 'lostList' | 'resume'>,
): Promise<void> {
  const written = Object.entries({ target: output, journal, 'list of lost sectors': lostList }).flatMap(
    ([what, file]) => (file === undefined ? [] : [{ what, file }]),
  )
  const own = new Set(await Promise.all(sources.map(fileIdentity)))
  const seen = new Map<string, string>()
  for (const { what, file } of written) {
    const id = await fileIdentity(file)
    if (own.has(id)) throw new WrongUse(`The ${what} is the source itself, which is never written.`)
    if (seen.has(id)) throw new WrongUse(`The ${what} and the ${seen.get(id)} are one file.`)
    seen.set(id, what)
  }
  if (lostList && !resume)
    await earlierLost(lostList).catch(() => {
      throw new WrongUse(`${path.basename(lostList)} is there already and is no list of lost sectors, so it is kept.`)
    })
}

function copyText(report: {
  verified: boolean
  lost: readonly Lost[]
  maps: readonly { readonly title: string; readonly finding: string | null }[]
  wholeVolumes: readonly { readonly title: string; readonly reason: string }[]
  target: string
  format: TargetKind
  sizeBytes: number
  writtenBytes: number
  seconds: number
  headline?: string
  reason?: string
}): string {
  const fitted = report.headline ? `${report.headline}. ${report.reason}\n` : ''
  const files = new Set(
    report.lost.flatMap((run) => run.files.map((name) => `  partition ${run.partition}: ${name}\n`)),
  )
  const lost = report.lost.length > 0 ? `${lostWords(report.lost)}.\n${[...files].join('')}` : ''
  const whole = report.wholeVolumes.map(({ title, reason }) => `Every sector of ${title}: ${reason}\n`).join('')
  const maps = report.maps
    .map(({ title, finding }) => `${title}: ${finding ?? 'its map of used blocks was not held against its files.'}\n`)
    .join('')
  return `${fitted}${report.target}: ${TARGETS[report.format].name}, disk of ${report.sizeBytes} bytes; ${formatSize(report.writtenBytes)} written, ${report.verified ? 'read back and equal' : 'not read back'}, ${report.seconds.toFixed(1)} s\n${whole}${maps}${lost}`
}
