import path from 'node:path'
import { ReadAroundDevice } from '@/core/block/read-around-device'
import { CoreError } from '@/core/errors'
import { compareDevices } from '@/core/image/compare'
import { touchedBy } from '@/core/image/touched'
import { TARGET_KINDS, type TargetKind, TARGETS } from '@/core/image'
import { checkMaps } from '@/core/survey/check-maps'
import { surveyDrive } from '@/core/survey/survey'
import { convertFile } from '@/host/convert'
import { openPartition } from '@/core/survey/open-partition'
import { sha256 } from '@/host/sha256'
import { counted } from '@/core/words'
import { keyOf, type Opening, refuseSources, withImage, WrongUse } from './open'
import { comparisonText, filesText, lostInImageText, surveyText } from './text'
import { reportOf } from './report'

/** What a command came to: text or bytes for standard output were written by `print`. */
export interface Io {
  print(text: string | Uint8Array): Promise<void>
  /** For people who wait: progress, on standard error. */
  say(text: string): void
  /** Something that went wrong beside the result, on standard error. */
  warn(text: string): void
  /** For programs that wait: progress as a line of JSON, on standard error. */
  tell(progress: unknown): void
  /** Asks a person and resolves with the answer; undefined where nobody can be asked. */
  ask(question: string): Promise<string | undefined>
  readonly signal: AbortSignal
}

export interface Options extends Opening {
  readonly json?: boolean
  readonly to?: TargetKind
  /** Of `survey`: holds maps of used blocks against the files. */
  readonly checkMap?: boolean
}

/** Ended because a person asked for it. */
export class Stopped extends CoreError {
  override readonly name = 'Stopped'
  constructor() {
    super('Stopped; nothing was left behind.')
  }
}

export const STOPS = 1
const PIECE = 4 * 1024 * 1024
export const json = (value: unknown) => `${JSON.stringify(value, null, 2)}\n`

/** Prints what is on an image. Gives the exit code: 1 when something on it is damaged. */
export async function survey(file: string, options: Options, io: Io): Promise<number> {
  const report = await withImage(file, options, async (image) => {
    const found = await surveyDrive(image.device, sha256)
    return reportOf(file, image, options.checkMap ? await checkMaps(image.device, found) : found)
  })
  await io.print(options.json ? json(report) : surveyText(report))
  return report.findings.some((f) => f.severity === 'damage') ? STOPS : 0
}

/** Prints the entries of a directory. */
export async function files(
  file: string,
  partition: number,
  directory: string,
  options: Options,
  io: Io,
): Promise<number> {
  const entries = await withImage(file, options, async (image) =>
    (await openPartition(image.device, partition)).list(directory),
  )
  await io.print(options.json ? json({ file, partition, directory, entries }) : filesText(entries))
  return 0
}

/** Prints the bytes of a file, a piece at a time. */
export async function cat(file: string, partition: number, name: string, options: Options, io: Io): Promise<number> {
  return withImage(file, options, async (image) => {
    const device = new ReadAroundDevice(image.device)
    const fileSystem = await openPartition(device, partition)
    const entry = await fileSystem.stat(name)
    if (!entry) await fileSystem.readFile(name, 0, 1)
    if (entry?.kind === 'directory') throw new CoreError(`${name} is a folder.`)
    const content = entry && (await fileSystem.openFile(name))
    for (let at = 0; content && at < entry.sizeBytes; at += PIECE) {
      io.signal.throwIfAborted()
      const bytes = await content.read(at, Math.min(PIECE, entry.sizeBytes - at))
      await io.print(bytes)
    }
    if (device.lost.length === 0) return 0
    io.warn(`${counted(device.lostSectors, 'sector')} could not be read; zeros stand in their place.`)
    return STOPS
  })
}

/** Writes an image anew in another format. */
export async function convert(input: string, output: string, options: Options, io: Io): Promise<number> {
  const to = options.to ?? byExtension(output)
  // A packed image is no disk yet; what it lies in is all that it is read from.
  const sources = await withImage(input, options, async ({ paths }) => paths).catch(() => [input])
  await refuseSources(sources, output)
  const start = performance.now()
  const result = await convertFile(input, output, {
    to,
    sectorSize: options.sectorSize,
    key: await keyOf(options),
    signal: io.signal,
    time: Date.now(),
    onProgress: percentOn(io),
  })
  const seconds = (performance.now() - start) / 1000
  const report = { input, output, format: to, ...result, seconds: Math.round(seconds * 100) / 100 }
  await io.print(
    options.json
      ? json(report)
      : `${output}: ${TARGETS[to].name}, disk of ${result.virtualBytes} bytes, file of ${result.fileBytes} bytes, ${seconds.toFixed(1)} s\n${lostInImageText(result.lost)}`,
  )
  return result.lost.sectors > 0 ? STOPS : 0
}

/** Compares two images as disks. Exit code 1 when they differ. */
export async function compare(a: string, b: string, options: Options, io: Io): Promise<number> {
  const report = await withImage(a, options, (left) =>
    withImage(b, options, async (right) => {
      const [one, other] = [new ReadAroundDevice(left.device), new ReadAroundDevice(right.device)]
      const comparison = await compareDevices(one, other, { signal: io.signal })
      const touched = comparison.ranges.length > 0 ? await touchedBy(one, comparison.ranges) : null
      const { firstDifference } = comparison
      const unreadable: readonly [number, number] = [one.lostSectors, other.lostSectors]
      return {
        a,
        b,
        // What does not read is not known to be the same.
        equal: comparison.equal && unreadable[0] === 0 && unreadable[1] === 0,
        unreadable,
        sizes: comparison.sizes,
        firstDifference:
          firstDifference === null
            ? null
            : { offset: firstDifference, sector: Math.floor(firstDifference / left.device.logicalSectorSize) },
        differingBytes: comparison.differingBytes,
        ranges: comparison.ranges,
        moreRanges: comparison.moreRanges,
        touched,
      }
    }),
  )
  await io.print(options.json ? json(report) : comparisonText(report))
  return report.equal ? 0 : STOPS
}

/** Tells each percent once to people who wait. */
export function percentOn(io: Io): (progress: { doneBytes: number; totalBytes: number }) => void {
  let told = -1
  return ({ doneBytes, totalBytes }) => {
    const percent = totalBytes > 0 ? Math.floor((doneBytes / totalBytes) * 100) : 0
    if (percent !== told) io.say(`${(told = percent)} %`)
  }
}

export function byExtension(output: string): TargetKind {
  const extension = path.extname(output).slice(1).toLowerCase()
  const found =
    TARGET_KINDS.find((kind) => TARGETS[kind].extension === extension) ?? (extension === 'raw' ? 'raw' : undefined)
  if (!found)
    throw new WrongUse(`The name ${path.basename(output)} does not tell a format; say --to ${TARGET_KINDS.join('|')}.`)
  return found
}
