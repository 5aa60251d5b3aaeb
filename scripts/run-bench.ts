// Measures what matters to a technician and prints it as ratios and times. Nothing here passes or fails.
import { execFileSync } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { ACCESSORY_MODELS } from '@/bench/catalogue'
import { SCENARIO_MOVES } from '@/bench/scenario/moves'
import { SCENARIO_BENCH } from '@/bench/scenario/things'
import { SparseFileDevice } from '@/bench/sparse-file'
import { noise } from '@/bench/random'
import { planCopy } from '@/core/copy/plan'
import { runCopy } from '@/core/copy/run'
import { GIB, MIB } from '@/core/bytes/size'
import { SliceDevice } from '@/core/block/slice'
import { formatNtfs } from '@/core/filesystem/ntfs/format'
import { solveFit } from '@/core/fit/solve'
import { surveyWith } from '@/core/fit/testing'
import type { RouteQuestion } from '@/core/route/question'
import { findPlans } from '@/core/route/search'
import { writeGpt } from '@/core/scheme/gpt'
import { TYPE_GUIDS } from '@/core/scheme/types'
import { surveyDrive } from '@/core/survey/survey'
import { AccessorySchema } from '@/core/things/accessory'
import { sha256 } from '@/server/digest'
import { serve } from '../tests/browser/support/serve'
import { benchConvert, benchSurvey } from './bench-images'

const median = (values: readonly number[]) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)]

/** With those of the demo they make eight adapters. */
const MORE_ADAPTERS = (
  ['dock-two', 'sata-cable-5', 'nvme-enclosure', 'm2-sata-enclosure', 'blade-enclosure'] as const
).map((id) => AccessorySchema.parse({ ...ACCESSORY_MODELS[id], id: `more-${id}` }))

const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-bench-'))
const seconds = (from: number) => (performance.now() - from) / 1000
const line = (what: string, value: string) => console.log(`${what.padEnd(58)} ${value}`)

try {
  await benchCopy()
  await benchSolver()
  benchRoutes()
  await benchSurvey(folder, line)
  await benchConvert(folder, line)
  await benchPages()
} finally {
  rmSync(folder, { recursive: true, force: true })
}

/** The search for plans, over each move of the demo's bench with eight adapters on it. */
function benchRoutes(): void {
  for (const [id, brief] of Object.entries(SCENARIO_MOVES)) {
    const question: RouteQuestion = {
      bench: { ...SCENARIO_BENCH, accessories: [...SCENARIO_BENCH.accessories, ...MORE_ADAPTERS] },
      computerId: brief.computerId,
      goal: brief.toVirtualMachine
        ? { kind: 'virtual-machine' }
        : { kind: 'computer', computerId: brief.targetComputerId ?? brief.computerId },
      pairs: brief.pairs.map((p) => ({ ...p, bytes: 200 * GIB, imagesAt: brief.images.length > 0 ? ['host'] : [] })),
      roomOn: { 'lmt4-4000': 3400 * GIB },
      claimedDrives: [],
      past: {},
    }
    const times = Array.from({ length: 15 }, () => {
      const start = performance.now()
      findPlans(question)
      return performance.now() - start
    })
    const plans = findPlans(question).length
    line(
      `plans for ${id}, median and worst of 15`,
      `${median(times).toFixed(1)} ms, ${Math.max(...times).toFixed(1)} ms (${plans} plans)`,
    )
  }
}

/** A drive with 1.5 GiB of real data, copied and read back by us and by plain tools. */
async function benchCopy(): Promise<void> {
  const source = path.join(folder, 'source.img')
  const device = await SparseFileDevice.create(source, 8 * GIB)
  const first = 2048
  const last = (8 * GIB) / 512 - 1 - 2048
  const entry = {
    number: 1,
    typeGuid: TYPE_GUIDS.basicData,
    guid: '11111111-2222-4333-8444-555555555501',
    name: 'Data',
  }
  const partitions = [{ ...entry, firstLba: first, lastLba: last, attributes: '0000000000000000' }]
  await writeGpt(device, {
    diskGuid: '91f0c1d2-1111-4222-8333-4444555533c7',
    entryCount: 128,
    entrySize: 128,
    partitions,
  })
  const content = noise(32 * MIB, 1)
  const files = Array.from({ length: 48 }, (_, i) => ({ path: `/scan ${i}.tif`, content }))
  await formatNtfs(new SliceDevice(device, first * 512, (last - first + 1) * 512), {
    label: 'Data',
    serial: 1n,
    startSector: first,
    time: 1n,
    files,
  })
  await device.close()
  const bytes = 48 * 32 * MIB

  const opened = await SparseFileDevice.open(source, { writable: false })
  const survey = await surveyDrive(opened, sha256)
  const fit = solveFit(survey, { sizeBytes: 16 * GIB, logicalSectorSize: 512 })
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  const times: { ours: number; plain: number; peak: number }[] = []
  for (let round = 0; round < 3; round++) {
    const target = path.join(folder, `target-${round}.img`)
    const written = await SparseFileDevice.create(target, 16 * GIB)
    const plan = await planCopy(opened, fit.layout)
    globalThis.gc?.()
    const before = process.memoryUsage()
    let peak = 0
    const watch = setInterval(() => {
      const now = process.memoryUsage()
      peak = Math.max(peak, now.arrayBuffers + now.heapUsed - before.arrayBuffers - before.heapUsed)
    }, 5)
    const start = performance.now()
    await runCopy(plan, written, { digest: sha256, note: 'bench', onStep: async () => {} })
    const ours = seconds(start)
    clearInterval(watch)
    await written.close()
    rmSync(target)

    // The plain tools do the same work: copy what is stored, make it safe, read both sides and compare digests.
    const plainTarget = path.join(folder, 'plain.img')
    const plainStart = performance.now()
    execFileSync('cp', ['--sparse=auto', source, plainTarget])
    execFileSync('sync', [plainTarget])
    const part = ['bs=4M', `count=${Math.ceil(bytes / (4 * MIB))}`, 'status=none']
    for (const file of [source, plainTarget]) execFileSync('sh', ['-c', `dd if=${file} ${part.join(' ')} | sha256sum`])
    times.push({ ours, plain: seconds(plainStart), peak })
    rmSync(plainTarget)
  }
  await opened.close()
  const best = (key: 'ours' | 'plain') => Math.min(...times.map((t) => t[key]))
  line(
    'copy and read back, 1.5 GiB of data',
    `${(bytes / MIB / best('ours')).toFixed(0)} MiB/s, ${best('ours').toFixed(2)} s`,
  )
  line(
    'cp, then dd | sha256sum of both, same bytes',
    `${(bytes / MIB / best('plain')).toFixed(0)} MiB/s, ${best('plain').toFixed(2)} s`,
  )
  line('ratio of time, ours to plain', (best('ours') / best('plain')).toFixed(2))
  line('memory above the start, at most', `${(Math.max(...times.map((t) => t.peak)) / MIB).toFixed(0)} MiB`)
}

async function benchSolver(): Promise<void> {
  const survey = surveyWith(
    Array.from({ length: 128 }, () => ({ role: 'data' as const, sectors: 4096 })),
    GIB,
  )
  const target = { sizeBytes: 4 * GIB, logicalSectorSize: 512 }
  for (let i = 0; i < 500; i++) solveFit(survey, target)
  const start = performance.now()
  for (let i = 0; i < 1000; i++) solveFit(survey, target)
  line('a fit with 128 partitions', `${seconds(start).toFixed(3)} ms`)
}

/** Pages of the running demo, each fetched ten times after one to warm it. */
async function benchPages(): Promise<void> {
  const served = await serve()
  try {
    for (const page of ['/', '/bench', '/moves/ticket-desk/intake', '/moves/ticket-desk/proof']) {
      const times: number[] = []
      for (let i = 0; i < 11; i++) {
        const start = performance.now()
        await (await fetch(served.url + page)).text()
        times.push(performance.now() - start)
      }
      const [, ...warm] = times
      line(`page ${page}`, `first ${times[0].toFixed(0)} ms, then at most ${Math.max(...warm).toFixed(0)} ms`)
    }
  } finally {
    await served.close()
  }
}
