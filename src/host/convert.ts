import { randomBytes } from 'node:crypto'
import { unlink } from 'node:fs/promises'
import path from 'node:path'
import type { BlockDevice } from '@/core/block/device'
import { dataRuns } from '@/core/block/data-runs'
import { lostInImage } from '@/core/copy/lost'
import { planImage } from '@/core/copy/plan-whole'
import { CoreError } from '@/core/errors'
import { packingOf, type Packing, type TargetKind } from '@/core/image'
import { type LostInImage, NO_LOSS } from '@/core/image/lost'
import { surveyDrive } from '@/core/survey/survey'
import { hostError, NoFile } from './errors'
import { HostFile, isThere, publish } from './files'
import { lengthsOf } from './host-folder'
import { isNbdAddress } from '@/nbd/address'
import type { SharedKey } from '@/nbd/key'
import { HostStore } from './host-store'
import { openHostImage } from './images'
import { unpackFile } from './packed'
import { resolveTarget } from './target-name'
import { syncFolderOf } from './sync-folder'
import { sha256 } from './sha256'
import { type MadeOf, type Progress, stepsOf, writeImage } from './write-image'

export interface ConvertFileOptions {
  readonly to: TargetKind
  readonly sectorSize?: 512 | 4096
  /** For what is lent by a key. */
  readonly key?: SharedKey
  readonly within?: string
  readonly signal?: AbortSignal
  readonly time: number
  readonly onProgress?: (progress: Progress) => void
  /** Keeps a record of it beside the new image. */
  readonly recorded?: boolean
}

export interface ConvertResult {
  readonly virtualBytes: number
  readonly fileBytes: number
  readonly hostBytes: number
  /** What the old image did not give; zeros stand in its place. */
  readonly lost: LostInImage
  /** All that was written was read back and is equal. A packed raw image is only unpacked by its own checks. */
  readonly verified: boolean
}

/** What is unpacked is gathered into pieces of this length. */
const PIECE_BYTES = 1024 * 1024

/**
 * Writes the disk in `input` anew as `output`, which has its name only when it is whole. A raw image that is packed as a
 * file is unpacked first, beside the output where that is to be of another format. Rejects with CoreError; then there is
 * no output.
 */
export async function convertFile(input: string, output: string, options: ConvertFileOptions): Promise<ConvertResult> {
  if (isNbdAddress(input)) return convertImage(input, output, options)
  const probe = await HostFile.open(input)
  const packing = await packingOf(probe).finally(() => probe.close())
  if (!packing) return convertImage(input, output, options)
  const target = await resolveTarget(output)
  const name = path.basename(output)
  if (await isThere(target)) throw new NoFile(`A file of that name is there already: ${name}.`)
  const unpacked = path.join(path.dirname(target), `.${name}.${randomBytes(4).toString('hex')}.partial`)
  try {
    const virtualBytes = await unpackInto(unpacked, input, packing, options)
    if (options.to !== 'raw') return await convertImage(unpacked, output, { ...options, within: undefined })
    await publish(unpacked, target)
    await syncFolderOf(target)
    return { virtualBytes, lost: NO_LOSS, verified: false, ...(await lengthsOf(target)) }
  } catch (error) {
    throw hostError(error, name)
  } finally {
    await unlink(unpacked).catch(() => undefined)
  }
}

async function convertImage(input: string, output: string, options: ConvertFileOptions): Promise<ConvertResult> {
  const { to, sectorSize, within, key, time, signal, onProgress, recorded } = options
  const image = await openHostImage(input, { sectorSize, within, key })
  try {
    const plan = await planImage(image.device, { stored: true })
    const outcome = await writeImage(plan, output, {
      to,
      time,
      note: `${path.basename(input)} to ${path.basename(output)}`,
      work: '',
      checkpoint: () => signal?.throwIfAborted(),
      onStep: stepsOf(plan.totalBytes, onProgress),
      ...(recorded ? { record: await madeOf(input, image.device) } : {}),
      beforeTables: async () => {
        if (await image.changed())
          throw new CoreError('The image was changed while it was read, so nothing was made of it.')
      },
    })
    const { fileBytes, hostBytes, lost } = outcome
    return { virtualBytes: plan.expected.size, fileBytes, hostBytes, lost: lostInImage(lost), verified: true }
  } finally {
    await image.close()
  }
}

async function madeOf(input: string, device: BlockDevice): Promise<MadeOf> {
  const { size: sizeBytes, logicalSectorSize: sectorSize } = device
  return {
    how: 'convert',
    source: { name: path.basename(input), model: null, serial: null, sizeBytes, sectorSize },
    survey: await surveyDrive(device, sha256),
    layout: null,
    read: 'stored',
    volumes: null,
    leaveOut: [],
  }
}

/** Unpacks a raw image into a new file, zeros left out. Gives the size of the disk. */
async function unpackInto(
  file: string,
  input: string,
  packing: Packing,
  { sectorSize = 512, signal, onProgress }: ConvertFileOptions,
): Promise<number> {
  const store = await HostStore.create(file)
  try {
    const buffer = new Uint8Array(PIECE_BYTES)
    let filled = 0
    let at = 0
    const send = async () => {
      for (const run of dataRuns(buffer.subarray(0, filled), at))
        await store.write(at + run.offset, buffer.subarray(run.offset, run.offset + run.length))
      at += filled
      filled = 0
      onProgress?.({ doneBytes: at, totalBytes: 0 })
    }
    for await (const chunk of unpackFile(input, packing)) {
      signal?.throwIfAborted()
      for (let from = 0; from < chunk.length;) {
        const part = chunk.subarray(from, from + buffer.length - filled)
        buffer.set(part, filled)
        filled += part.length
        from += part.length
        if (filled === buffer.length) await send()
      }
    }
    await send()
    const size = Math.ceil(at / sectorSize) * sectorSize
    await store.truncate(size)
    await store.flush()
    return size
  } finally {
    await store.close()
  }
}
