import { createRequire, syncBuiltinESMExports } from 'node:module'
import type * as workerThreads from 'node:worker_threads'
import { bundleOf } from './bundle-worker'

// In a process of its own, whose threads are written in TypeScript, they start from JavaScript: import it before them.

const threads = createRequire(import.meta.url)('node:worker_threads') as { Worker: typeof workerThreads.Worker }
const { Worker } = threads
threads.Worker = class extends Worker {
  constructor(file: string | URL, options?: workerThreads.WorkerOptions) {
    super(bundleOf(file), options)
  }
}
syncBuiltinESMExports()
