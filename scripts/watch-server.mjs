// Loaded into a server before it starts, for measuring it from outside: writes every quarter second to the file that
// IMBARCO_WATCH names how long its event loop was held at most since the last line, how much of that was work of its
// own and not waiting for a core that another process had, and the memory it holds.
import { appendFileSync, readFileSync } from 'node:fs'
import { isMainThread } from 'node:worker_threads'

const LOOK_EVERY_MS = 5
const file = process.env.IMBARCO_WATCH
if (file && isMainThread) {
  let last = performance.now()
  let waited = waitedMs()
  let late = 0
  let worked = 0
  setInterval(() => {
    const now = performance.now()
    const waitedNow = waitedMs()
    const held = now - last - LOOK_EVERY_MS
    late = Math.max(late, held)
    worked = Math.max(worked, held - (waitedNow - waited))
    last = now
    waited = waitedNow
  }, LOOK_EVERY_MS).unref()
  setInterval(() => {
    const line = { at: Date.now(), lateMs: late, heldMs: worked, memoryBytes: process.memoryUsage().rss }
    appendFileSync(file, `${JSON.stringify(line)}\n`)
    late = worked = 0
  }, 250).unref()
}

/** How long this thread was ready and had no core, so far, in ms; 0 where the system does not tell. */
function waitedMs() {
  try {
    return Number(readFileSync('/proc/thread-self/schedstat', 'utf8').split(' ')[1]) / 1e6
  } catch {
    return 0
  }
}
