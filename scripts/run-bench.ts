// Measures what matters to a technician and prints it as ratios and times. Nothing here passes or fails.
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { ACCESSORY_MODELS } from '@/bench/catalogue'
import { SCENARIO_MOVES } from '@/bench/scenario/moves'
import { SCENARIO_BENCH } from '@/bench/scenario/things'
import { GIB } from '@/core/bytes/size'
import { solveFit } from '@/core/fit/solve'
import { surveyWith } from '@/core/fit/testing'
import type { RouteQuestion } from '@/core/route/question'
import { findPlans } from '@/core/route/search'
import { AccessorySchema } from '@/core/things/accessory'
import { serve } from '../tests/browser/support/serve'
import { benchCapture } from './bench-capture'
import { benchCopies, benchReadBack } from './bench-copy'
import { benchDevices } from './bench-devices'
import { benchFiles } from './bench-files'
import { benchConvert, benchSurvey } from './bench-images'
import { benchMany } from './bench-many'
import { benchNetwork } from './bench-network'
import { benchServer } from './bench-server'
import { benchUpload } from './bench-upload'

const median = (values: readonly number[]) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)]

/** With those of the demo they make eight adapters. */
const MORE_ADAPTERS = (
  ['dock-two', 'sata-cable-5', 'nvme-enclosure', 'm2-sata-enclosure', 'blade-enclosure'] as const
).map((id) => AccessorySchema.parse({ ...ACCESSORY_MODELS[id], id: `more-${id}` }))

const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-bench-'))
const seconds = (from: number) => (performance.now() - from) / 1000
const line = (what: string, value: string) => console.log(`${what.padEnd(58)} ${value}`)

/** What is measured, by the name under which it can be asked for alone. */
const PARTS: Record<string, () => void | Promise<void>> = {
  copy: () => benchCopies(folder, line),
  'read-back': () => benchReadBack(folder, line),
  devices: () => benchDevices(folder, line),
  capture: () => benchCapture(folder, line),
  fit: benchSolver,
  routes: benchRoutes,
  survey: () => benchSurvey(folder, line),
  convert: () => benchConvert(folder, line),
  files: () => benchFiles(folder, line, Number(process.env.IMBARCO_BENCH_FILES ?? Infinity)),
  pages: benchPages,
  server: () => benchServer(folder, line),
  many: () => benchMany(folder, line),
  upload: () => benchUpload(folder, line),
  network: () => benchNetwork(folder, line),
}

try {
  const asked = process.argv.slice(2)
  for (const [name, measure] of Object.entries(PARTS)) if (asked.length === 0 || asked.includes(name)) await measure()
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
      roomOn: { 'lmt4-4000': { bytes: 3400 * GIB, limitedBy: null } },
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
