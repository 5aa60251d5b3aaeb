import { mkdir, readdir, realpath, stat } from 'node:fs/promises'
import path from 'node:path'
import * as z from 'zod'
import { cutToBytes, utf8Bytes } from '@/core/words'
import { imagesFolder } from '../ground/paths'
import { Refusal } from '../ground/refusals'

/** File systems take 255 bytes; what a file is called while it is being written is longer by a few. */
const MOST_NAME_BYTES = 180

/** A name of a file in the images folder: one part, shown as it is, no hidden file. */
export const ImageNameSchema = z
  .string()
  .min(1, 'Give the file a name')
  .refine((name) => !/[/\\\0-\x1f\x7f\p{Surrogate}]/u.test(name) && !name.startsWith('.') && name.trim() === name, {
    message: 'A file name has no slashes, does not begin with a dot and ends in no blank',
  })
  .refine((name) => utf8Bytes(name) <= MOST_NAME_BYTES, {
    message: `A file name has at most ${MOST_NAME_BYTES} bytes`,
  })

/** The folder, made when there is none. */
export async function readyFolder(): Promise<string> {
  const folder = imagesFolder()
  await mkdir(folder, { recursive: true })
  return folder
}

/** The path of an image that is there. Throws Refusal for one that is not, or that leads out of the folder. */
export async function imagePath(input: unknown): Promise<string> {
  const name = ImageNameSchema.parse(input)
  const folder = await realpath(await readyFolder())
  const place = await realpath(path.join(folder, name)).catch(() => undefined)
  if (!place) throw new Refusal('image-unknown', { name })
  if (path.dirname(place) !== folder) throw new Refusal('image-outside', { name })
  const found = await stat(place).catch(() => undefined)
  if (!found) throw new Refusal('image-unknown', { name })
  if (!found.isFile()) throw new Refusal('image-no-file', { name })
  return place
}

/** The path for a new image. Throws Refusal when the name is taken. */
export async function newImagePath(input: unknown): Promise<string> {
  const name = ImageNameSchema.parse(input)
  const place = path.join(await readyFolder(), name)
  const taken = await stat(place).then(
    () => true,
    () => false,
  )
  if (taken) throw new Refusal('image-name-taken', { name })
  return place
}

/** A beginning of names like the one wished for, that no file of the folder has. */
export async function freeStem(wished: string): Promise<string> {
  const names = await readdir(await readyFolder())
  const cleaned = path.parse(await freeName(`${wished}.x`)).name.replace(/ \(\d+\)$/, '')
  for (let i = 1; ; i++) {
    const stem = i === 1 ? cleaned : `${cleaned} (${i})`
    if (!names.some((name) => name.startsWith(`${stem} disk `))) return stem
  }
}

/** A name like the one wished for that is not taken yet. */
export async function freeName(wished: string): Promise<string> {
  const cleaned = wished
    .normalize('NFC')
    .replace(/[/\\\0-\x1f\x7f\p{Surrogate}]+/gu, ' ')
    .replace(/^[.\s]+|\s+$/g, '')
  const { name: whole, ext: given } = path.parse(cleaned || 'image.img')
  // A number behind the stem, and the extension, have their room. What is no extension is part of the stem.
  const ext = utf8Bytes(given) <= 20 ? given : ''
  const stem = cutToBytes(ext === given ? whole : `${whole}${given}`, MOST_NAME_BYTES - utf8Bytes(ext) - 8)
  const folder = await readyFolder()
  for (let i = 1; ; i++) {
    const candidate = i === 1 ? `${stem}${ext}` : `${stem} (${i})${ext}`
    const taken = await stat(path.join(folder, candidate)).catch(() => undefined)
    if (!taken) return candidate
  }
}
