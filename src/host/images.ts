import { realpath } from 'node:fs/promises'
import path from 'node:path'
import { CoreError } from '@/core/errors'
import { openImage, type OpenedImage, type ParentOpener } from '@/core/image'
import { type SharedKey } from '@/nbd/key'
import { isNbdAddress, keyFor, nbdAddress } from '@/nbd/address'
import { NbdFile } from '@/nbd/client'
import { raw } from '@/core/image/raw'
import { plateText } from './devices/describe'
import { isDevicePath, KernelDevice } from './devices/device-file'
import { HostFile } from './files'

/** Images that build on images are followed this far. */
const DEEPEST = 16

export interface OpenHostImage {
  readonly sectorSize?: 512 | 4096
  /** Parents outside this folder are refused. The image's own folder where nothing is said. */
  readonly within?: string
  /** For what is lent by a key. */
  readonly key?: SharedKey
}

/** An image of this host with all that it builds on, or a disk that another program lends. */
export interface HostImage extends OpenedImage {
  /** Bytes of the file itself, and those that it takes on its host as far as that is known. */
  readonly file: { readonly size: number; readonly hostBytes: number }
  /** Paths of the file and of all that it builds on; none of what is lent. */
  readonly paths: readonly string[]
  /** Of a drive of this computer, or a partition of one: `8:0`. */
  readonly deviceNumber?: string
  /** What a person types to name the drive, before it is written over. */
  readonly plate?: string
  /** True when a file of the image was changed since it was opened. */
  changed(): Promise<boolean>
  close(): Promise<void>
}

/**
 * Opens an image file and those it builds on, all for reading; or what is lent at an address (`nbd://…`). Rejects with
 * NoFile, BadStructure, NotSupported, or CoreError when a parent is missing, lies outside the folder or leads back to
 * its child.
 */
export async function openHostImage(file: string, options: OpenHostImage = {}): Promise<HostImage> {
  if (isNbdAddress(file)) return openLent(file, options)
  if (await isDevicePath(file)) return openDevice(file, options)
  const files: HostFile[] = []
  const close = async () => {
    for (const opened of files.splice(0)) await opened.close()
  }
  try {
    const image = await openChain(file, [], options, files)
    return {
      ...image,
      file: files[0],
      paths: files.map((f) => f.path),
      changed: async () => (await Promise.all(files.map((f) => f.changed()))).some(Boolean),
      close,
    }
  } catch (error) {
    await close()
    throw error
  }
}

/** A disk that is lent is the bytes of a disk, whatever they look like: no format is looked for in them. */
async function openLent(uri: string, { key, sectorSize }: OpenHostImage): Promise<HostImage> {
  const address = nbdAddress(uri)
  const lent = await NbdFile.open(address, { key: await keyFor(address, key) })
  try {
    const openParent = async (): Promise<never> => {
      throw new CoreError('What is lent builds on nothing.')
    }
    const said = lent.minimumBytes === 4096 ? 4096 : undefined
    const image = await raw.open(lent, { sectorSize: sectorSize ?? said, openParent })
    return {
      ...image,
      name: 'lent over the network',
      file: { size: lent.size, hostBytes: lent.size },
      paths: [],
      // Who lends it keeps it as it is.
      changed: async () => false,
      close: () => lent.close(),
    }
  } catch (error) {
    await lent.close()
    throw error
  }
}

/** A drive of this computer is the bytes of a disk, whatever they look like: no format is looked for in them. */
async function openDevice(file: string, { sectorSize }: OpenHostImage): Promise<HostImage> {
  const device = await KernelDevice.open(file)
  const { size, logicalSectorSize, number, drive } = device
  if (sectorSize !== undefined && sectorSize !== logicalSectorSize) {
    await device.close()
    throw new CoreError(`${file} has sectors of ${logicalSectorSize} bytes, which it says itself.`)
  }
  return {
    ...{ kind: 'raw', name: drive?.model ?? 'a partition', virtualBytes: size, device, findings: [] },
    ...{ file: { size, hostBytes: size }, paths: [file], deviceNumber: number },
    ...(drive ? { plate: plateText(drive, logicalSectorSize) } : {}),
    // Nobody tells whether its bytes were changed meanwhile.
    changed: async () => false,
    close: () => device.close(),
  }
}

async function openChain(
  file: string,
  above: readonly string[],
  options: OpenHostImage,
  files: HostFile[],
  kind?: OpenedImage['kind'],
): Promise<OpenedImage> {
  const opened = await HostFile.open(file)
  files.push(opened)
  const place = await realpath(file)
  if (above.includes(place)) throw new CoreError(`${path.basename(file)} builds on itself.`)
  if (above.length >= DEEPEST) throw new CoreError(`${path.basename(file)} builds on more than ${DEEPEST} images.`)
  const openParent: ParentOpener = async ({ names, format }) => {
    const parent = await findParent(place, names, options.within)
    return openChain(parent, [...above, place], options, files, format)
  }
  return openImage(opened, { sectorSize: options.sectorSize, openParent }, kind)
}

/** The parent's file: a name is taken from the image's own folder, and only inside the folder that is allowed. */
async function findParent(child: string, names: readonly string[], within?: string): Promise<string> {
  const folder = path.dirname(child)
  const root = await realpath(within ?? folder)
  let outside = false
  for (const name of names) {
    // Windows names its paths with backslashes and drive letters; only the last part can be here then.
    const plain = name.replaceAll('\\', '/')
    const relative = /^([a-z]:|\/|[a-z]+:)/i.test(plain) ? path.posix.basename(plain) : plain
    if (relative.includes('\0')) continue
    const found = await realpath(path.resolve(folder, relative)).catch(() => undefined)
    if (!found) continue
    if (found === root || !found.startsWith(root + path.sep)) {
      outside = true
      continue
    }
    return found
  }
  const name = path.basename(names[0]?.replaceAll('\\', '/') ?? '')
  throw new CoreError(
    outside
      ? `This image builds on ${name}, which lies outside the folder and is not opened.`
      : `This image builds on ${name || 'another'}, which is not in its folder.`,
  )
}
