import { createHash } from 'node:crypto'
import { createReadStream, createWriteStream } from 'node:fs'
import { mkdir, readdir, readFile, rm, stat } from 'node:fs/promises'
import path from 'node:path'
import { pipeline } from 'node:stream/promises'
import { extract } from 'tar-stream'
import { CoreError } from '@/core/errors'
import { plainName, readManifest, type ReadOvf, readOvf } from '@/core/vm/ovf'
import { hostError, NoFile } from './errors'

/** A package that was read: its machine, and a file of this host for each of its disks. */
export interface OpenPackage extends ReadOvf {
  /** In the order of the machine's disks. */
  readonly disks: readonly string[]
  /** Every file was held against a digest of the manifest; false where there is no manifest. */
  readonly verified: boolean
}

export interface OpenPackageOptions {
  /** A folder for what a packed one holds, made here; whoever asks removes it. */
  readonly aside: string
  readonly signal?: AbortSignal
  readonly onBytes?: (bytes: number) => void
}

/** Descriptors and manifests are no longer than this. */
const MOST_TEXT_BYTES = 8 * 1024 * 1024
/** More files than a package has. */
const MOST_FILES = 200

/**
 * Opens a package by its descriptor, which stands in its folder, or as one file: a tar whose first file is the
 * descriptor. Each file that the manifest names is held against its digest before anything is told of it. Rejects with
 * CoreError for one that names a missing file, one outside of its folder, or one that is not what the manifest says.
 */
export async function openPackage(file: string, options: OpenPackageOptions): Promise<OpenPackage> {
  const name = path.basename(file)
  try {
    const folder = /\.ova$/i.test(file) ? await unpackTar(file, options) : path.dirname(file)
    const names = (await readdir(folder)).filter((one) => !one.startsWith('.'))
    const descriptor = /\.ova$/i.test(file) ? names.find((one) => /\.ovf$/i.test(one)) : name
    if (descriptor === undefined) throw new CoreError(`${name} has no descriptor of a virtual machine in it.`)
    const read = readOvf(await textOf(path.join(folder, descriptor)))
    for (const disk of read.machine.disks)
      if (!names.includes(disk.file)) throw new CoreError(`The package names ${disk.file}, which is not in it.`)
    const manifest = names.find((one) => one.toLowerCase() === `${path.parse(descriptor).name}.mf`.toLowerCase())
    const used = [descriptor, ...read.machine.disks.map((disk) => disk.file)]
    if (manifest) await holdAgainst(folder, manifest, used, options)
    const disks = read.machine.disks.map((disk) => path.join(folder, disk.file))
    return { ...read, disks, verified: manifest !== undefined }
  } catch (error) {
    throw hostError(error, name)
  }
}

async function unpackTar(file: string, { aside, signal, onBytes }: OpenPackageOptions): Promise<string> {
  await mkdir(aside, { recursive: true })
  const seen = new Set<string>()
  const unpack = extract()
  const feeding = pipeline(createReadStream(file), unpack, { signal }).catch((error: unknown) => {
    if (signal?.aborted) throw error
    throw new CoreError('The package is no tar, or ends in the middle of a file.')
  })
  const reading = (async () => {
    for await (const entry of unpack) {
      const { name, type } = entry.header
      if (type !== 'file' && type !== 'contiguous-file') {
        if (type === 'directory') {
          entry.resume()
          continue
        }
        throw new CoreError(`The package has something in it that is no file: ${name.slice(0, 80)}.`)
      }
      const plain = plainName(name)
      if (seen.has(plain.toLowerCase()) || seen.size >= MOST_FILES)
        throw new CoreError(
          `The package has ${seen.size >= MOST_FILES ? 'too many files' : `two files of the name ${plain}`}.`,
        )
      seen.add(plain.toLowerCase())
      entry.on('data', (chunk: unknown) => onBytes?.((chunk as Buffer).length))
      await pipeline(entry, createWriteStream(path.join(aside, plain), { flags: 'wx' }), { signal })
    }
  })()
  const [read, fed] = await Promise.allSettled([reading, feeding])
  // What is wrong with a file in it says more than that the rest was not read.
  if (read.status === 'rejected' && read.reason instanceof CoreError) throw read.reason
  if (fed.status === 'rejected') throw fed.reason
  if (read.status === 'rejected') throw read.reason
  return aside
}

/** Each file that is used is named, and is what its digest says. */
async function holdAgainst(
  folder: string,
  manifest: string,
  used: readonly string[],
  { signal, onBytes }: OpenPackageOptions,
): Promise<void> {
  const lines = readManifest(await textOf(path.join(folder, manifest)))
  for (const name of used) {
    const line = lines.find((one) => one.file === name)
    if (!line) throw new CoreError(`The manifest of the package does not name ${name}, so it is not known to be whole.`)
    const hash = createHash(line.algorithm.toLowerCase())
    for await (const chunk of createReadStream(path.join(folder, name), { signal })) {
      hash.update(chunk as Buffer)
      onBytes?.((chunk as Buffer).length)
    }
    if (hash.digest('hex') !== line.digest)
      throw new CoreError(`${name} is not what the manifest of the package says: it was changed or is damaged.`)
  }
}

async function textOf(file: string): Promise<string> {
  const found = await stat(file).catch(() => undefined)
  if (!found?.isFile()) throw new NoFile(`${path.basename(file)} is not a file.`)
  if (found.size > MOST_TEXT_BYTES) throw new CoreError(`${path.basename(file)} is longer than a text of a package is.`)
  return readFile(file, 'utf8')
}

/** Removes what was put aside for a package. */
export const removeAside = (aside: string) => rm(aside, { recursive: true, force: true })
