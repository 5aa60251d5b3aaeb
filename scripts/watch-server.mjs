// Loaded into a server before it starts, for measuring it from outside: writes every quarter second to the file that
// IMBARCO_WATCH names how long its event loop was held at most since the last line, and the memory it holds.
import { appendFileSync } from 'node:fs'
import { monitorEventLoopDelay } from 'node:perf_hooks'
import { isMainThread } from 'node:worker_threads'

const file = process.env.IMBARCO_WATCH
if (file && isMainThread) {
  const delay = monitorEventLoopDelay({ resolution: 5 })
  delay.enable()
  setInterval(() => {
    const line = { at: Date.now(), heldMs: delay.max / 1e6, memoryBytes: process.memoryUsage().rss }
    appendFileSync(file, `${JSON.stringify(line)}\n`)
    delay.reset()
  }, 250).unref()
}
