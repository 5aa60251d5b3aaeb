import { readdir, rm, stat } from 'node:fs/promises'
import path from 'node:path'
import { isRecordName, recordName } from '@/core/copy/image-record'
import { type Packing, packingOf } from '@/core/image'
import type { ImageSummary } from '@/core/image/views'
import type { DriveSurvey } from '@/core/survey/types'
import { schemeWords } from '@/core/survey/words'
import { type Drive, driveName } from '@/core/things/drive'
import { HostFile } from '@/host/files'
import { type HostImage, openHostImage } from '@/host/images'
import { database } from '../database'
import { readable } from '../database/readable'
import { DriveRow, thingsVersion } from '../database/models'
import { imagesFolder } from '../ground/paths'
import { refusedFor } from '../ground/answer'
import { singleton } from '../ground/singleton'
import { runTask } from '../jobs/threads'
import { imagePath, readyFolder } from './names'

interface Cached {
  readonly key: string
  readonly summary: Omit<ImageSummary, 'onBench' | 'recorded'>
}

/** Surveys are kept for as long as the file is the same. */
const cache = () => singleton('image-summaries', () => new Map<string, Cached>())

const drivesRead = () =>
  singleton('drives-of-all', () => ({ version: NaN, drives: Promise.resolve<readonly Drive[]>([]) }))

/** The drives of all benches: an image stands for one of them at most. Read once for each state of the things. */
export async function drivesOfAll(): Promise<readonly Drive[]> {
  await database()
  const read = drivesRead()
  if (read.version !== thingsVersion()) {
    read.version = thingsVersion()
    read.drives = DriveRow.findAll().then((rows) => readable(rows, (row) => row.data).found)
    read.drives.catch(() => (read.version = NaN))
  }
  return read.drives
}

/** Every file of the images folder, by name. */
export async function listImages(): Promise<ImageSummary[]> {
  const folder = await readyFolder()
  const drives = await drivesOfAll()
  const entries = await readdir(folder, { withFileTypes: true })
  const files = entries.filter((e) => !e.name.startsWith('.') && (e.isFile() || e.isSymbolicLink())).map((e) => e.name)
  const names = files.filter((name) => !isRecordName(name))
  const images: ImageSummary[] = []
  for (const name of names.sort((a, b) => a.localeCompare(b, 'en'))) {
    const summary = await summaryOf(name)
    const recorded = files.includes(recordName(name))
    const onBench = drives.filter((d) => d.image === name).map(driveName)
    if (summary) images.push({ ...summary, onBench, recorded })
  }
  return images
}

async function summaryOf(name: string): Promise<Cached['summary'] | undefined> {
  let file: string
  try {
    file = await imagePath(name)
  } catch (error) {
    return { name, fileBytes: 0, hostBytes: 0, packing: null, opened: null, sentence: refusedFor(error).sentence }
  }
  const { size, mtimeMs, blocks } = await stat(file)
  const key = `${size}:${mtimeMs}`
  const known = cache().get(name)
  if (known?.key === key) return known.summary
  const base = { name, fileBytes: size, hostBytes: blocks * 512 }
  let summary: Cached['summary']
  try {
    const packing = await packingOfFile(file)
    summary = packing
      ? { ...base, packing, opened: null, sentence: null }
      : { ...base, packing: null, opened: await openedSummary(file), sentence: null }
  } catch (error) {
    summary = { ...base, packing: null, opened: null, sentence: refusedFor(error).sentence }
  }
  cache().set(name, { key, summary })
  return summary
}

async function packingOfFile(file: string): Promise<Packing | undefined> {
  const opened = await HostFile.open(file)
  try {
    return await packingOf(opened)
  } finally {
    await opened.close()
  }
}

async function openedSummary(file: string): Promise<ImageSummary['opened']> {
  const about = await withOpened(file, async ({ kind, name, virtualBytes, parent }) => ({
    kind,
    format: name,
    virtualBytes,
    parent: parent ?? null,
  }))
  const survey = await runTask('surveySubject', { kind: 'image', file, within: imagesFolder() })
  const findings = [...survey.findings, ...survey.partitions.flatMap((p) => p.findings)]
  return {
    ...about,
    scheme: schemeWords(survey),
    usedBytes: survey.usedBytes,
    contents: survey.partitions.filter((p) => p.role !== 'extended').map(contentOf),
    damaged: findings.some((f) => f.severity === 'damage'),
    cautions: findings.filter((f) => f.severity === 'caution').length,
  }
}

function contentOf({ title, volume, system }: DriveSurvey['partitions'][number]): string {
  const inside = system ? system.name : volume?.name
  return inside ? `${title}, ${inside}` : title
}

/** Opens an image, hands it to `work` and closes it. Throws Refusal and CoreError. */
export async function withImage<T>(name: unknown, work: (image: HostImage) => Promise<T>): Promise<T> {
  return withOpened(await imagePath(name), work)
}

async function withOpened<T>(file: string, work: (image: HostImage) => Promise<T>): Promise<T> {
  const image = await openHostImage(file, { within: imagesFolder() })
  try {
    return await work(image)
  } finally {
    await image.close()
  }
}

/** Removes what an earlier run left of images that were not finished. Called once, before anything is written. */
export async function clearPartial(): Promise<void> {
  const folder = await readyFolder()
  for (const name of await readdir(folder)) {
    // What was put aside of a package is a folder.
    if (/^\..+\.[0-9a-f]{8}\.partial$/.test(name)) await rm(path.join(folder, name), { force: true, recursive: true })
  }
}
