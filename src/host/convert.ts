import { stat } from 'node:fs/promises'
import { ReadAroundDevice } from '@/core/block/read-around-device'
import { CoreError } from '@/core/errors'
import { type ImageSink, packingOf, type TargetKind, TARGETS, type WriterOptions } from '@/core/image'
import { convertDevice, type ConvertProgress, convertStream } from '@/core/image/convert'
import { type LostInImage, lostOf } from '@/core/image/lost'
import { createWhole, HostFile } from './files'
import { openHostImage } from './images'
import { packCluster, unpackFile } from './packed'

export interface ConvertFileOptions {
  readonly to: TargetKind
  readonly sectorSize?: 512 | 4096
  readonly within?: string
  readonly signal?: AbortSignal
  readonly time: number
  readonly guid: () => string
  readonly onProgress?: (progress: ConvertProgress) => void
}

export interface ConvertResult {
  readonly virtualBytes: number
  readonly fileBytes: number
  readonly hostBytes: number
  /** What the old image did not give; zeros stand in its place. */
  readonly lost: LostInImage
}

/**
 * Writes the disk in `input` anew as `output`, which appears only when it is whole. A packed raw image is unpacked
 * in the same pass. Rejects with CoreError; then there is no output.
 */
export async function convertFile(input: string, output: string, options: ConvertFileOptions): Promise<ConvertResult> {
  const probe = await HostFile.open(input)
  const packing = await packingOf(probe).finally(() => probe.close())
  const written = await createWhole(output, async (sink) =>
    packing
      ? { virtualBytes: await convertPacked(input, packing, sink, options), lost: { sectors: 0, files: [] } }
      : convertImage(input, sink, options),
  )
  const { size, blocks } = await stat(output)
  return { ...written, fileBytes: size, hostBytes: blocks * 512 }
}

async function convertImage(
  input: string,
  sink: ImageSink,
  options: ConvertFileOptions,
): Promise<Pick<ConvertResult, 'virtualBytes' | 'lost'>> {
  const { to, sectorSize, within, time, guid, signal, onProgress } = options
  const image = await openHostImage(input, { sectorSize, within })
  try {
    const device = new ReadAroundDevice(image.device)
    const writerOptions: WriterOptions = {
      virtualBytes: device.size,
      sectorSize: device.logicalSectorSize,
      time,
      guid,
      pack: packCluster,
    }
    await convertDevice(device, TARGETS[to].writer(sink, writerOptions), { signal, onProgress })
    if (await image.changed())
      throw new CoreError('The image was changed while it was read, so nothing was made of it.')
    return { virtualBytes: device.size, lost: await lostOf(device) }
  } finally {
    await image.close()
  }
}

async function convertPacked(
  input: string,
  packing: 'gzip' | 'zstd',
  sink: ImageSink,
  { to, sectorSize = 512, time, guid, signal, onProgress }: ConvertFileOptions,
): Promise<number> {
  const writer = TARGETS[to].writer(sink, { sectorSize, time, guid, pack: packCluster })
  return convertStream(unpackFile(input, packing), writer, {
    sectorSize,
    signal,
    onProgress: (doneBytes) => onProgress?.({ doneBytes, totalBytes: 0, writtenBytes: doneBytes }),
  })
}
