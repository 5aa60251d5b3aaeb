import path from 'node:path'
import { formatSize } from '@/core/bytes/size'
import { checkRecord, type ImageRecord } from '@/core/copy/image-record'
import type { IdleKind } from '@/core/copy/idle-kinds'
import { NoSuchPartition, planVolumes } from '@/core/copy/plan-volumes'
import { planImage } from '@/core/copy/plan-whole'
import { lostWords } from '@/core/copy/progress'
import { CoreError } from '@/core/errors'
import { type TargetKind, TARGETS } from '@/core/image'
import { touchedBy } from '@/core/image/touched'
import type { MapTaken } from '@/core/image/used'
import { surveyDrive } from '@/core/survey/survey'
import { counted } from '@/core/words'
import { lengthsOf } from '@/host/host-folder'
import { blake3 } from '@/host/strong-digest'
import { sha256 } from '@/host/sha256'
import { recordOf, writeImage, unfinishedName } from '@/host/write-image'
import { byExtension, type Io, json, type Options, percentOn, STOPS } from './commands'
import { copy, type CopyOptions, refuseOwn, tell, whenStopped, workOf } from './copy'
import { type IntoOptions, restoreInto, restoreIntoFree } from './into'
import { ChangedMeanwhile, withImage, WrongUse } from './open'

// Images that are kept: made of a drive, proved again at any time, put back onto a drive, written anew without what is free.

export interface CaptureOptions extends Options {
  readonly volumes?: readonly number[]
  readonly leaveOut?: readonly IdleKind[]
  readonly overwrite?: boolean
  readonly verify?: boolean
  readonly journal?: string
  readonly resume?: boolean
}

/** Writes an image of what is in use on a drive, with a record beside it that proves it at any time. */
export function capture(input: string, output: string, options: CaptureOptions, io: Io): Promise<number> {
  return keep('capture', input, output, options, io)
}

/** Writes a virtual disk anew without what its systems have freed, and without zeros that take room. */
export function compact(input: string, output: string, options: CaptureOptions, io: Io): Promise<number> {
  return keep('compact', input, output, options, io)
}

async function keep(
  how: 'capture' | 'compact',
  input: string,
  output: string,
  options: CaptureOptions,
  io: Io,
): Promise<number> {
  const to = options.to ?? (how === 'compact' ? await sameFormat(input, output) : byExtension(output))
  const { leaveOut = [], verify = true, journal, resume, overwrite } = options
  if (resume && !journal) throw new WrongUse('Going on needs the journal of the copy: --journal FILE.')
  const start = performance.now()
  const report = await withImage(
    input,
    options,
    async (image) => {
      await refuseOwn(image.paths, output, options)
      const { device } = image
      const survey = await surveyDrive(device, sha256)
      const maps: MapTaken[] = []
      const { plan, layout } = options.volumes
        ? await planVolumes(image.device, survey, options.volumes, leaveOut).catch((error: unknown) => {
            throw error instanceof NoSuchPartition ? new WrongUse(error.message) : error
          })
        : { plan: await planImage(device, { leaveOut }, (map) => maps.push(map)), layout: null }
      const outcome = await writeImage(plan, output, {
        to,
        time: Date.now(),
        note: `${path.basename(input)} to ${path.basename(output)}`,
        work: workOf([how, to, options.volumes ?? null, leaveOut, survey.fingerprint]),
        verify,
        overwrite,
        journal,
        resume,
        record: {
          how,
          source: {
            name: path.basename(input),
            model: null,
            serial: null,
            sizeBytes: device.size,
            sectorSize: device.logicalSectorSize,
          },
          survey,
          layout,
          read: 'used',
          volumes: options.volumes ? [...options.volumes] : null,
          leaveOut: [...leaveOut],
        },
        beforeTables: async () => {
          if (await image.changed()) throw new ChangedMeanwhile(input)
        },
        checkpoint: () => io.signal.throwIfAborted(),
        onStep: tell(plan, verify, options.json === true, io),
      }).catch(whenStopped(unfinishedName(output), journal))
      const leftOut = plan.partitions.flatMap((p) => [...p.leftOut])
      return {
        source: input,
        image: output,
        format: to,
        virtualBytes: plan.expected.size,
        sourceFileBytes: image.file.size,
        sourceHostBytes: image.file.hostBytes,
        fileBytes: outcome.fileBytes,
        hostBytes: outcome.hostBytes,
        copiedBytes: outcome.copiedBytes,
        verified: outcome.checkedBytes > 0,
        digest: outcome.digest,
        digestName: 'BLAKE3',
        leftOut,
        lost: [...outcome.lost],
        maps: maps.map(({ partition, checked, finding }) => ({ partition, checked, finding: finding ?? null })),
        seconds: Math.round((performance.now() - start) / 10) / 100,
      }
    },
    { checked: true },
  )
  await io.print(options.json ? json(report) : keptText(how, report))
  return report.lost.length > 0 ? STOPS : 0
}

/** The format of the image that is written anew, where the name of the new one tells no other. */
async function sameFormat(input: string, output: string): Promise<TargetKind> {
  if (path.extname(output).toLowerCase() !== path.extname(input).toLowerCase()) return byExtension(output)
  const record = await recordOf(input).catch(() => undefined)
  return record?.image.format ?? byExtension(output)
}

type KeptReport = {
  readonly image: string
  readonly format: TargetKind
  readonly virtualBytes: number
  readonly sourceHostBytes: number
  readonly hostBytes: number
  readonly verified: boolean
  readonly leftOut: readonly { readonly path: string; readonly bytes: number }[]
  readonly lost: ImageRecord['lost']
  readonly seconds: number
}

function keptText(how: 'capture' | 'compact', report: KeptReport): string {
  const { image, format, virtualBytes, sourceHostBytes, hostBytes, verified, leftOut, lost, seconds } = report
  const sizes =
    how === 'compact'
      ? `${formatSize(sourceHostBytes)} before, ${formatSize(hostBytes)} after`
      : `${formatSize(hostBytes)} for a disk of ${virtualBytes} bytes`
  const left = leftOut.reduce((sum, file) => sum + file.bytes, 0)
  return [
    `${image}: ${TARGETS[format].name}, ${sizes}; ${verified ? 'read back and equal' : 'not read back'}, ${seconds.toFixed(1)} s`,
    ...(leftOut.length > 0 ? [`Left out: ${counted(leftOut.length, 'file')}, ${formatSize(left)}.`] : []),
    ...(lost.length > 0 ? [`${lostWords(lost)}.`] : []),
    '',
  ].join('\n')
}

/** Holds an image against the record beside it. Exit code 1 when they do not agree. */
export async function verify(file: string, options: Options, io: Io): Promise<number> {
  const record = await recordOf(file)
  if (!record)
    throw new WrongUse(`There is no record beside ${path.basename(file)}, so there is nothing to hold it against.`)
  const start = performance.now()
  const report = await withImage(file, { sectorSize: record.image.sectorSize }, async ({ device }) => {
    const percent = percentOn(io)
    const check = await checkRecord(device, record, blake3, {
      checkpoint: () => io.signal.throwIfAborted(),
      onProgress: (doneBytes, totalBytes) => percent({ doneBytes, totalBytes }),
    })
    const ranges = [...check.differing, ...check.strange].sort((a, b) => a.offset - b.offset)
    const touched = ranges.length > 0 ? await touchedBy(device, ranges) : null
    return {
      image: file,
      madeAt: record.madeAt,
      source: record.source,
      ...check,
      touched,
      lost: record.lost,
      leftOut: record.leftOut,
      ...(await lengthsOf(file)),
      seconds: Math.round((performance.now() - start) / 10) / 100,
    }
  })
  await io.print(options.json ? json(report) : verifyText(report))
  return report.equal ? 0 : STOPS
}

function verifyText(report: {
  readonly image: string
  readonly equal: boolean
  readonly checkedBytes: number
  readonly differing: readonly unknown[]
  readonly unreadable: readonly unknown[]
  readonly strange: readonly unknown[]
  readonly touched: { readonly files: readonly { readonly path: string }[] } | null
  readonly madeAt: string
  readonly seconds: number
}): string {
  const { image, equal, checkedBytes, differing, unreadable, strange, touched, madeAt, seconds } = report
  if (equal)
    return `${image}: ${formatSize(checkedBytes)} are as they were recorded on ${madeAt.slice(0, 10)}, ${seconds.toFixed(1)} s\n`
  const parts = [
    ...(differing.length > 0 ? [`${counted(differing.length, 'stretch', 'stretches')} differ`] : []),
    ...(unreadable.length > 0 ? [`${counted(unreadable.length, 'stretch', 'stretches')} cannot be read`] : []),
    ...(strange.length > 0 ? [`${counted(strange.length, 'stretch', 'stretches')} hold what was not recorded`] : []),
  ]
  const files = (touched?.files ?? []).map((file) => `  ${file.path}\n`).join('')
  return `${image} is not what was recorded on ${madeAt.slice(0, 10)}: ${parts.join(', ')}.\n${files}`
}

/** Options that say how a whole target is laid out and written. */
const NOT_INTO = [
  ...([
    'targetSize',
    'targetSectorSize',
    'rule',
    'reserve',
    'scheme',
    'order',
    'leaveOut',
    'align',
    'newIdentity',
  ] as const),
  ...(['everySector', 'everyOf', 'overwrite', 'lostList', 'to'] as const),
] satisfies (keyof CopyOptions)[]

export type RestoreOptions = CopyOptions &
  Partial<IntoOptions> & { readonly check?: boolean; readonly intoFree?: boolean }

/** Puts an image onto a drive of any size, laid out anew as `copy` does it. */
export async function restore(image: string, target: string, options: RestoreOptions, io: Io): Promise<number> {
  const { volumes, into, intoFree, dryRun, replace, entry, shrinkNeighbour } = options
  const placed = into !== undefined || intoFree === true
  if (!placed && (volumes || dryRun || replace || entry || shrinkNeighbour !== undefined))
    throw new WrongUse(
      '--volumes, --shrink-neighbour, --entry, --replace and --dry-run belong to --into N or --into-free.',
    )
  if (into !== undefined && intoFree) throw new WrongUse('Either --into N or --into-free.')
  if (placed && !volumes) throw new WrongUse('What goes into the partition is said by --volumes N.')
  const strange = !placed ? undefined : NOT_INTO.find((name) => options[name] !== undefined)
  if (strange !== undefined)
    throw new WrongUse(
      `--${strange.replace(/[A-Z]/g, (letter) => `-${letter.toLowerCase()}`)} is for a target of its own; --into leaves all else on the target as it is.`,
    )

  const record = await recordOf(image)
  if (options.check && !record)
    throw new WrongUse(`There is no record beside ${path.basename(image)}, so there is nothing to hold it against.`)
  if (options.check && record) {
    const { equal } = await withImage(image, { sectorSize: record.image.sectorSize }, ({ device }) =>
      checkRecord(device, record, blake3),
    )
    if (!equal)
      throw new CoreError(`${path.basename(image)} is not what was recorded when it was made. Nothing was written.`)
  }
  if (intoFree) return restoreIntoFree(image, target, { ...options, volumes: volumes! }, io)
  if (into !== undefined) return restoreInto(image, target, { ...options, into, volumes: volumes! }, io)
  return copy(image, target, options, io)
}
