import { createHash, randomBytes } from 'node:crypto'
import { createReadStream, createWriteStream } from 'node:fs'
import { mkdir, rename, rm, stat, writeFile } from 'node:fs/promises'
import path from 'node:path'
import { pipeline } from 'node:stream/promises'
import { pack } from 'tar-stream'
import type { CopyPlan } from '@/core/copy/plan'
import type { CopyOutcome } from '@/core/copy/run'
import { TARGETS } from '@/core/image'
import { type DiskFormat, manifestOf, ovfOf, type PackedDisk } from '@/core/vm/ovf'
import type { VirtualMachine } from '@/core/vm/types'
import { NoFile } from './errors'
import { isThere } from './files'
import { syncFolderOf } from './sync-folder'
import { writeImage, type WriteImageOptions } from './write-image'

/** What disks of a package are written as where nobody says more: the form that the standard itself describes. */
export const PACKAGE_FORMAT = 'vmdk-stream' satisfies DiskFormat

/** A disk that goes into a package. */
export interface PackageDisk {
  readonly plan: CopyPlan
  /** Its name in the package. */
  readonly file: string
}

export interface PackageOptions extends Pick<WriteImageOptions, 'time' | 'checkpoint' | 'beforeTables'> {
  readonly format: DiskFormat
  /** Told of each step with the number of the disk, from 0. */
  readonly onStep: (disk: number, step: Parameters<WriteImageOptions['onStep']>[0]) => Promise<void>
}

export interface WrittenPackage {
  readonly files: readonly { readonly file: string; readonly bytes: number; readonly sha256: string }[]
  readonly outcomes: readonly CopyOutcome[]
}

/**
 * Writes a virtual machine as a package of its descriptor, a manifest and the images of its disks: into a new folder, or
 * as one file where the name ends in `.ova`. What is begun has another name until it is whole, and is removed when it does
 * not come to its end. Rejects with NoFile when the name is taken.
 */
export async function writePackage(
  machine: VirtualMachine,
  disks: readonly PackageDisk[],
  output: string,
  { format, time, checkpoint, beforeTables, onStep }: PackageOptions,
): Promise<WrittenPackage> {
  const name = path.basename(output)
  if (await isThere(output)) throw new NoFile(`There is something of that name already: ${name}.`)
  const parent = path.dirname(path.resolve(output))
  if (!(await stat(parent).catch(() => undefined))?.isDirectory())
    throw new NoFile(`There is no folder ${path.dirname(output)} to write ${name} into.`)
  const partial = path.join(parent, `.${name}.${randomBytes(4).toString('hex')}.partial`)
  const tar = `${partial}.ova`
  await mkdir(partial)
  try {
    const outcomes: CopyOutcome[] = []
    const packed: PackedDisk[] = []
    for (const [i, { plan, file }] of disks.entries()) {
      const outcome = await writeImage(plan, path.join(partial, file), {
        to: format,
        time,
        note: `${machine.name}, disk ${i + 1}`,
        work: '',
        checkpoint,
        beforeTables,
        onStep: (step) => onStep(i, step),
      })
      outcomes.push(outcome)
      packed.push({ file, format, fileBytes: outcome.fileBytes, populatedBytes: outcome.writtenBytes })
    }
    const stem = name.replace(/\.ova$/i, '')
    await writeFile(path.join(partial, `${stem}.ovf`), ovfOf(machine, packed))
    // The descriptor comes first, as the standard wants it of one file, and the manifest right behind it.
    const listed = await Promise.all([`${stem}.ovf`, ...packed.map((d) => d.file)].map((f) => digestIn(partial, f)))
    await writeFile(path.join(partial, `${stem}.mf`), manifestOf(listed))
    const files = [listed[0], await digestIn(partial, `${stem}.mf`), ...listed.slice(1)]
    if (!/\.ova$/i.test(name)) {
      await rename(partial, output)
      await syncFolderOf(output)
      return { files, outcomes }
    }
    await tarOf(partial, files, tar, time)
    await rename(tar, output)
    await syncFolderOf(output)
    return { files, outcomes }
  } finally {
    await rm(tar, { force: true })
    await rm(partial, { recursive: true, force: true })
  }
}

/** The name of a disk in a package. */
export const diskName = (machine: string, disk: number, format: DiskFormat) =>
  `${machine.replace(/[^\w .-]/g, '_').replace(/^\.+/, '_')}-disk${disk + 1}.${TARGETS[format].extension}`

async function digestIn(folder: string, file: string) {
  const hash = createHash('sha256')
  let bytes = 0
  for await (const chunk of createReadStream(path.join(folder, file), { highWaterMark: 1024 * 1024 })) {
    hash.update(chunk as Buffer)
    bytes += (chunk as Buffer).length
  }
  return { file, bytes, sha256: hash.digest('hex') }
}

async function tarOf(
  folder: string,
  files: readonly { readonly file: string; readonly bytes: number }[],
  output: string,
  time: number,
): Promise<void> {
  const archive = pack()
  const writing = pipeline(archive, createWriteStream(output, { flags: 'wx', flush: true }))
  // A failure is met below; this only keeps it from counting as unhandled until then.
  writing.catch(() => undefined)
  for (const { file, bytes } of files) {
    const entry = archive.entry({ name: file, size: bytes, mode: 0o644, mtime: new Date(time) })
    await pipeline(createReadStream(path.join(folder, file), { highWaterMark: 1024 * 1024 }), entry)
  }
  archive.finalize()
  await writing
}
