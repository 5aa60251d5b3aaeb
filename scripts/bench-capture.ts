// Images of a drive beside a plain tool that copies the same used bytes, on the same files and in turns.
import { execFileSync } from 'node:child_process'
import { rmSync } from 'node:fs'
import path from 'node:path'
import { planCopy } from '@/core/copy/plan'
import { planImage } from '@/core/copy/plan-whole'
import { solveFit } from '@/core/fit/solve'
import { type TargetKind, TARGETS } from '@/core/image'
import { surveyDrive } from '@/core/survey/survey'
import { openHostImage } from '@/host/images'
import { sha256 } from '@/host/sha256'
import { writeImage } from '@/host/write-image'
import { makeSparse } from './bench-copy'
import type { Line } from './bench-images'

const ROUNDS = 5
const FORMATS: readonly TargetKind[] = ['vhdx', 'qcow2', 'raw']
const MIB = 1024 * 1024

interface Pair {
  readonly ours: number
  readonly plain: number
}

export async function benchCapture(folder: string, line: Line): Promise<void> {
  const source = path.join(folder, 'sparse.img')
  await makeSparse(source)
  const target = path.join(folder, 'captured')
  for (const to of FORMATS) {
    const pairs = await inTurns(
      () => written(() => writeImageOf(source, target, to), target),
      () => written(() => plainCopy(source, target), target),
    )
    tell(line, `capture of used blocks to ${TARGETS[to].name}`, pairs)
  }
  for (const from of FORMATS) {
    const image = path.join(folder, `image.${from}`)
    await writeImageOf(source, image, from)
    // The drive's file is in the host's memory, where the other finds it; so shall the image be.
    execFileSync('cat', [image], { stdio: ['ignore', 'ignore', 'inherit'] })
    const pairs = await inTurns(
      () => written(() => restoreOf(image, target), target),
      () => written(() => plainCopy(source, target), target),
    )
    tell(line, `restore from ${TARGETS[from].name}`, pairs)
    rmSync(image)
  }
  await compaction(folder, source, line)
  rmSync(source)
}

/** Seconds of one run; what it wrote is removed after it. */
async function written(work: () => void | Promise<void>, target: string): Promise<number> {
  execFileSync('sync')
  const start = performance.now()
  await work()
  const seconds = (performance.now() - start) / 1000
  rmSync(target)
  return seconds
}

async function inTurns(ours: () => Promise<number>, plain: () => Promise<number>): Promise<Pair[]> {
  // The first to write so much on a host pays for its room; neither of the two shall.
  await plain()
  const pairs: Pair[] = []
  for (let round = 0; round < ROUNDS; round++) {
    if (round % 2 === 0) pairs.push({ ours: await ours(), plain: await plain() })
    else {
      const seconds = await plain()
      pairs.push({ ours: await ours(), plain: seconds })
    }
  }
  return pairs
}

function plainCopy(source: string, target: string): void {
  execFileSync('cp', ['--sparse=always', source, target])
  execFileSync('sync', [target])
}

async function writeImageOf(source: string, target: string, to: TargetKind): Promise<void> {
  const image = await openHostImage(source, { sectorSize: 512 })
  try {
    const plan = await planImage(image.device)
    const options = { to, time: 0, note: 'bench', work: '', verify: false, onStep: async () => {} }
    await writeImage(plan, target, options)
  } finally {
    await image.close()
  }
}

async function restoreOf(file: string, target: string): Promise<void> {
  const image = await openHostImage(file, { sectorSize: 512 })
  try {
    const survey = await surveyDrive(image.device, sha256)
    const fit = solveFit(survey, { sizeBytes: image.device.size, logicalSectorSize: 512 })
    if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
    const plan = await planCopy(image.device, fit.layout)
    await writeImage(plan, target, {
      to: 'raw',
      time: 0,
      note: 'bench',
      work: '',
      verify: false,
      onStep: async () => {},
    })
  } finally {
    await image.close()
  }
}

/** What memory writing an image anew takes, over what the program has. */
async function compaction(folder: string, source: string, line: Line): Promise<void> {
  const [grown, target] = [path.join(folder, 'grown.vhdx'), path.join(folder, 'compacted.vhdx')]
  await writeImageOf(source, grown, 'vhdx')
  globalThis.gc?.()
  const before = process.memoryUsage().rss
  let peak = before
  const watch = setInterval(() => (peak = Math.max(peak, process.memoryUsage().rss)), 10)
  const start = performance.now()
  await writeImageOf(grown, target, 'vhdx')
  clearInterval(watch)
  const seconds = (performance.now() - start) / 1000
  line('compacting a VHDX with 4 GiB in use', `${seconds.toFixed(2)} s, ${((peak - before) / MIB).toFixed(0)} MiB more`)
  for (const file of [grown, target]) rmSync(file)
}

function tell(line: Line, what: string, pairs: readonly Pair[]): void {
  const ratios = pairs.map(({ ours, plain }) => plain / ours).sort((a, b) => a - b)
  const middle = (values: readonly number[]) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)]
  line(
    `${what}, speed of cp --sparse with sync as 1`,
    `${middle(ratios).toFixed(2)} (${ratios[0].toFixed(2)} to ${ratios.at(-1)!.toFixed(2)}); ${middle(pairs.map((p) => p.ours)).toFixed(2)} s, cp ${middle(pairs.map((p) => p.plain)).toFixed(2)} s`,
  )
}
