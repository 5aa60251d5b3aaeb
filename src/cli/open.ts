import { stat } from 'node:fs/promises'
import path from 'node:path'
import type { BlockDevice } from '@/core/block/device'
import { CoreError } from '@/core/errors'
import { type HostImage, openHostImage } from '@/host/images'
import { keyOfCode, keyOfFile, type SharedKey } from '@/nbd/key'

/** The command was given something it cannot work with. */
export class WrongUse extends CoreError {
  override readonly name = 'WrongUse'
}

/** An image was written to while it was read. */
export class ChangedMeanwhile extends CoreError {
  override readonly name = 'ChangedMeanwhile'
  constructor(file: string) {
    super(`${file} was changed while it was read, so nothing about it is sure.`)
  }
}

/** Refuses to write what is read from: the image itself, what it builds on, or another name of either. */
export async function refuseSources(sources: readonly string[], output: string): Promise<void> {
  const own = new Set(await Promise.all(sources.map(fileIdentity)))
  if (own.has(await fileIdentity(output))) {
    throw new WrongUse('The target is the source itself, or what it builds on, which is never written.')
  }
}

/** What tells one file from another under any of its names. */
export async function fileIdentity(file: string): Promise<string> {
  const found = await stat(file).catch(() => undefined)
  return found ? `${found.dev}/${found.ino}` : path.resolve(file)
}

/** How an image is opened. */
export interface Opening {
  readonly sectorSize?: 512 | 4096
  /** A file with the key of what is lent. */
  readonly pskFile?: string
  /** The code of what is lent, which makes its key. */
  readonly code?: string
}

/** The key of what is lent, where one was given. Rejects with CoreError. */
export async function keyOf({ pskFile, code }: Opening): Promise<SharedKey | undefined> {
  if (code !== undefined) return keyOfCode(code)
  return pskFile === undefined ? undefined : keyOfFile(pskFile)
}

/** The disk of an image that can be written in its place. Throws CoreError for any but a raw one. */
export function expectRaw({ device, kind, name, paths }: HostImage): BlockDevice {
  if (paths.length === 0) throw new CoreError('What is lent over the network is only read from here.')
  if (kind !== 'raw') throw new CoreError(`Only a raw image is written in its place, and this one is ${name}.`)
  return device
}

/** Opens an image, hands it to `work` and closes it. Rejects with ChangedMeanwhile when it was changed, unless `work` checks that itself. */
export async function withImage<T>(
  file: string,
  options: Opening,
  work: (image: HostImage) => Promise<T>,
  { checked = false }: { readonly checked?: boolean } = {},
): Promise<T> {
  const image = await openHostImage(file, { sectorSize: options.sectorSize, key: await keyOf(options) })
  try {
    const result = await work(image)
    if (!checked && (await image.changed())) throw new ChangedMeanwhile(file)
    return result
  } finally {
    await image.close()
  }
}
