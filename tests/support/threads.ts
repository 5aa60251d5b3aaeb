import type * as threads from 'node:worker_threads'
import { vi } from 'vitest'
import { bundleOf } from './bundle-worker'

// Threads start from JavaScript. What the build does for the server is done here for each test file: a worker written in
// TypeScript is bundled when the first thread of it starts.

vi.mock('node:worker_threads', async (original) => {
  const real = await original<typeof threads>()
  class Worker extends real.Worker {
    constructor(file: string | URL, options?: threads.WorkerOptions) {
      super(bundleOf(file), options)
    }
  }
  return { ...real, default: { ...real, Worker }, Worker }
})
