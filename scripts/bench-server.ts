// What a copy does to the server it runs in: how long its event loop is held, and the memory it takes.
import { readFileSync } from 'node:fs'
import path from 'node:path'
import { MIB } from '@/core/bytes/size'
import { Page } from '../tests/browser/support/browser'
import { serve } from '../tests/browser/support/serve'
import {
  fromSurveyToReady,
  openList,
  setPace,
  settle,
  startCopy,
  startLightingDesk,
  toSurvey,
} from '../tests/browser/support/steps'
import type { Line } from './bench-images'

interface Watched {
  readonly at: number
  /** How long the loop did not turn, at most. */
  readonly lateMs: number
  /** Of that, what was the server's own work. */
  readonly heldMs: number
  readonly memoryBytes: number
}

/** Carries copies out in the pages, as fast as it goes, and watches the server's process. */
export async function benchServer(folder: string, line: Line): Promise<void> {
  const file = path.join(folder, 'watched')
  const watcher = new URL('./watch-server.mjs', import.meta.url).href
  const env = { NODE_OPTIONS: `--import=${watcher}`, IMBARCO_WATCH: file }
  const served = await serve({ env, warm: true, moves: { 'lighting-desk': 'fitted' } })
  const page = await Page.launch(served.url)
  const idle = watched(file).at(-1)!.memoryBytes
  const measure = async (what: string, copy: () => Promise<void>) => {
    const start = Date.now()
    await copy()
    const during = watched(file).filter((w) => w.at >= start)
    const most = (key: 'lateMs' | 'heldMs') => `at most ${Math.max(...during.map((w) => w[key])).toFixed(0)} ms`
    const middle = during.map((w) => w.lateMs).sort((a, b) => a - b)[during.length >> 1]
    const memory = Math.max(...during.map((w) => w.memoryBytes))
    line(`the server while ${what} is copied: event loop held`, most('heldMs'))
    line('  with waiting for a core that the browser has', most('lateMs'))
    line('  in the middle of its quarter seconds', `${middle.toFixed(0)} ms`)
    line('  memory above idle', `${((memory - idle) / MIB).toFixed(0)} MiB`)
  }
  try {
    await setPaceOf(page)
    await toSurvey(page)
    await fromSurveyToReady(page)
    await settle(page)
    await measure('the ticket desk', async () => {
      await startCopy(page)
      await page.untilFinding(/reads back equal/, 120_000)
    })
    // There is one rescue stick.
    await page.open('/computers/ticket-desk')
    await page.click(/^Shut it down/)
    await page.untilText(/Switch it on/)
    await openList(page, 'lighting-desk')
    await measure('the failing lighting desk', async () => {
      await startLightingDesk(page)
      await page.untilFinding(/^Copied, but/, 120_000)
    })
  } finally {
    await page.close()
    await served.close()
  }
}

async function setPaceOf(page: Page): Promise<void> {
  await page.open('/')
  await setPace(page, /as fast as it goes/)
}

/** What was seen of the server so far. */
export function watched(file: string): Watched[] {
  return readFileSync(file, 'utf8')
    .trim()
    .split('\n')
    .map((text) => JSON.parse(text) as Watched)
}
