// Copies beside plain tools, on the same files and in turns.
import { execFileSync } from 'node:child_process'
import { closeSync, openSync, readSync, rmSync, statSync, writeSync } from 'node:fs'
import path from 'node:path'
import { monitorEventLoopDelay } from 'node:perf_hooks'
import { noise } from '@/bench/random'
import { SparseFileDevice } from '@/bench/sparse-file'
import { SliceDevice } from '@/core/block/slice'
import { GIB, MIB } from '@/core/bytes/size'
import { type CopyPlan, planCopy } from '@/core/copy/plan'
import { planWhole } from '@/core/copy/plan-whole'
import type { CopyStep } from '@/core/copy/run'
import { formatNtfs } from '@/core/filesystem/ntfs/format'
import { solveFit } from '@/core/fit/solve'
import { writeGpt } from '@/core/scheme/gpt'
import { TYPE_GUIDS } from '@/core/scheme/types'
import { surveyDrive } from '@/core/survey/survey'
import { writeImage } from '@/host/write-image'
import { dataExtents } from '@/host/holes'
import { openHostImage } from '@/host/images'
import { blake3 } from '@/host/strong-digest'
import { sha256 } from '@/host/sha256'
import type { Line } from './bench-images'

const ROUNDS = 5
const CONTENT = 4 * GIB
const FIRST = 2048

const median = (values: readonly number[]) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)]

/** The median of ratios, with the least and the most of them. */
function spread(ratios: readonly number[]): string {
  return `${median(ratios).toFixed(2)} (${Math.min(...ratios).toFixed(2)} to ${Math.max(...ratios).toFixed(2)})`
}

/** What a copy took: seconds, cores, the longest its thread was held, and memory above the start. */
interface Run {
  readonly seconds: number
  /** Of these, reading back. */
  readonly checkSeconds: number
  readonly cores: number
  readonly heldMs: number
  readonly memoryMib: number
}

export async function benchCopies(folder: string, line: Line): Promise<void> {
  const random = path.join(folder, 'random.img')
  const file = openSync(random, 'w')
  const piece = noise(64 * MIB, 3)
  for (let at = 0; at < CONTENT; at += piece.length) writeSync(file, piece, 0, piece.length, at)
  closeSync(file)
  execFileSync('sync')

  const every = await inTurns(folder, random, planWhole, { source: random, count: CONTENT / (8 * MIB) })
  tell(line, 'every sector, 4 GiB of random bytes', every)
  line('  speed, dd bs=8M conv=fsync taken as 1', spread(every.pairs.map((p) => p.plain / p.ours.seconds)))

  const sparse = path.join(folder, 'sparse.img')
  await makeSparse(sparse)
  const used = await inTurns(folder, sparse, planUsed, { source: random, count: CONTENT / (8 * MIB) })
  tell(line, 'used blocks, 4 GiB of files on a 64 GiB drive', used)
  line('  time, dd over 4 GiB taken as 1', spread(used.pairs.map((p) => p.ours.seconds / p.plain)))
  rmSync(random)
  rmSync(sparse)
}

/** The same copy with its check, beside its own copying and one plain reading of what it wrote. */
export async function benchReadBack(folder: string, line: Line): Promise<void> {
  const sparse = path.join(folder, 'sparse.img')
  await makeSparse(sparse)
  const ratios: number[] = []
  const runs: Run[] = []
  const target = path.join(folder, 'target.img')
  for (let round = 0; round < ROUNDS; round++) {
    const run = await copyOnce(sparse, planUsed, target, true)
    // The copy went past the host's memory, so that its check was answered by the disk; the reading shall be as well.
    execFileSync('dd', [`of=${target}`, 'oflag=nocache', 'conv=notrunc,fdatasync', 'count=0', 'status=none'])
    const start = performance.now()
    await readThrough(target)
    // Of one and the same copy, since the time of writing differs far more from run to run than this does.
    ratios.push(run.seconds / (run.seconds - run.checkSeconds + (performance.now() - start) / 1000))
    runs.push(run)
    rmSync(target)
  }
  line('used blocks, read back', `${median(runs.map((r) => r.seconds)).toFixed(2)} s${extent(runs)}`)
  line('  time, its copying and one plain reading from the disk with that hash taken as 1', spread(ratios))
  rmSync(sparse)
}

type Planner = (device: Awaited<ReturnType<typeof openHostImage>>['device']) => Promise<CopyPlan>

async function planUsed(device: Parameters<Planner>[0]): Promise<CopyPlan> {
  const survey = await surveyDrive(device, sha256)
  const fit = solveFit(survey, { sizeBytes: device.size, logicalSectorSize: 512 })
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  return planCopy(device, fit.layout)
}

async function inTurns(folder: string, source: string, plan: Planner, plain: { source: string; count: number }) {
  const target = path.join(folder, 'target.img')
  const runPlain = () => {
    execFileSync('sync')
    const start = performance.now()
    const options = ['bs=8M', `count=${plain.count}`, 'conv=fsync', 'status=none']
    execFileSync('dd', [`if=${plain.source}`, `of=${target}`, ...options])
    const seconds = (performance.now() - start) / 1000
    rmSync(target)
    return seconds
  }
  const runOurs = async () => {
    const run = await copyOnce(source, plan, target, false)
    rmSync(target)
    return run
  }
  // The first to write so much on a host pays for its room; neither of the two shall.
  runPlain()
  const pairs: { ours: Run; plain: number }[] = []
  for (let round = 0; round < ROUNDS; round++) {
    if (round % 2 === 0) pairs.push({ ours: await runOurs(), plain: runPlain() })
    else {
      const seconds = runPlain()
      pairs.push({ ours: await runOurs(), plain: seconds })
    }
  }
  return { pairs }
}

async function copyOnce(source: string, planner: Planner, target: string, verify: boolean): Promise<Run> {
  const image = await openHostImage(source, { sectorSize: 512 })
  // What an earlier run left for the host to store is not this one's.
  execFileSync('sync')
  globalThis.gc?.()
  const before = process.memoryUsage().rss
  let peak = before
  const watch = setInterval(() => (peak = Math.max(peak, process.memoryUsage().rss)), 10)
  const held = monitorEventLoopDelay({ resolution: 5 })
  held.enable()
  const cpu = process.cpuUsage()
  const start = performance.now()
  const plan = await planner(image.device)
  let checked = 0
  const onStep = async ({ phase }: CopyStep) => {
    if (phase === 'check') checked ||= performance.now()
  }
  await writeImage(plan, target, { to: 'raw', time: 0, note: 'bench', work: '', verify, onStep })
  const end = performance.now()
  const seconds = (end - start) / 1000
  const { user, system } = process.cpuUsage(cpu)
  held.disable()
  clearInterval(watch)
  await image.close()
  return {
    seconds,
    checkSeconds: checked > 0 ? (end - checked) / 1000 : 0,
    cores: (user + system) / 1e6 / seconds,
    heldMs: held.max / 1e6,
    memoryMib: (peak - before) / MIB,
  }
}

/** A plain reading of a file with the hash of the copy. */
async function readThrough(file: string): Promise<void> {
  const handle = openSync(file, 'r')
  const buffer = new Uint8Array(4 * MIB)
  const parts: Uint8Array[] = []
  // Of a sparse file only its data, as a plain tool that knows holes would.
  for (const { offset, length } of (await dataExtents(handle, 0, statSync(file).size)) ?? []) {
    for (let at = offset; at < offset + length; at += buffer.length) {
      const read = readSync(handle, buffer, 0, Math.min(buffer.length, offset + length - at), at)
      parts.push(blake3(buffer.subarray(0, read)))
    }
  }
  closeSync(handle)
  if (parts.length < 100) throw new Error('The target holds too little.')
}

function tell(line: Line, what: string, { pairs }: { pairs: readonly { ours: Run; plain: number }[] }): void {
  const ours = pairs.map((p) => p.ours)
  const plain = median(pairs.map((p) => p.plain))
  line(what, `${median(ours.map((r) => r.seconds)).toFixed(2)} s, dd ${plain.toFixed(2)} s${extent(ours)}`)
}

function extent(runs: readonly Run[]): string {
  const most = (key: keyof Run) => Math.max(...runs.map((r) => r[key]))
  return `; ${median(runs.map((r) => r.cores)).toFixed(2)} cores, held ${most('heldMs').toFixed(0)} ms, ${most('memoryMib').toFixed(0)} MiB more`
}

/** 64 GiB with one NTFS volume that holds 4 GiB of files. */
export async function makeSparse(file: string): Promise<void> {
  const device = await SparseFileDevice.create(file, 64 * GIB)
  const last = (64 * GIB) / 512 - 1 - FIRST
  const guid = '11111111-2222-4333-8444-555555555501'
  const partition = { number: 1, typeGuid: TYPE_GUIDS.basicData, guid, name: '', attributes: '0'.repeat(16) }
  await writeGpt(device, {
    diskGuid: '91f0c1d2-1111-4222-8333-4444555533c7',
    entryCount: 128,
    entrySize: 128,
    partitions: [{ ...partition, firstLba: FIRST, lastLba: last }],
  })
  const content = noise(32 * MIB, 1)
  await formatNtfs(new SliceDevice(device, FIRST * 512, (last - FIRST + 1) * 512), {
    label: 'Data',
    serial: 1n,
    startSector: FIRST,
    time: 1n,
    files: Array.from({ length: CONTENT / (32 * MIB) }, (_, i) => ({ path: `/scan ${i}.tif`, content })),
  })
  await device.close()
}
