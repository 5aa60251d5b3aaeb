import { mkdirSync, mkdtempSync } from 'node:fs'
import path from 'node:path'
import { fileURLToPath } from 'node:url'
import type * as threads from 'node:worker_threads'
import { buildSync } from 'esbuild'
import { vi } from 'vitest'

// Threads start from JavaScript. What the build does for the server is done here for each test file: a worker written in
// TypeScript is bundled when the first thread of it starts.

const ROOT = fileURLToPath(new URL('../..', import.meta.url))
const bundles = new Map<string, string>()

vi.mock('node:worker_threads', async (original) => {
  const real = await original<typeof threads>()
  class Worker extends real.Worker {
    constructor(file: string | URL, options?: threads.WorkerOptions) {
      super(bundleOf(file), options)
    }
  }
  return { ...real, default: { ...real, Worker }, Worker }
})

function bundleOf(file: string | URL): string | URL {
  const source = file instanceof URL ? fileURLToPath(file) : file
  if (!source.endsWith('.ts')) return file
  const known = bundles.get(source)
  if (known) return known
  const cache = path.join(ROOT, 'node_modules', '.cache')
  mkdirSync(cache, { recursive: true })
  // Inside node_modules, so that packages are found from there.
  const outfile = path.join(mkdtempSync(path.join(cache, 'thread-')), path.basename(source).replace(/ts$/, 'mjs'))
  buildSync({
    entryPoints: [source],
    outfile,
    bundle: true,
    platform: 'node',
    format: 'esm',
    target: 'node20',
    // Native ones; all others are bundled.
    external: ['koffi', '@napi-rs/blake-hash', 'pino'],
    banner: {
      js: "import { createRequire as requireFrom } from 'node:module'; const require = requireFrom(import.meta.url)",
    },
    alias: { '@': path.join(ROOT, 'src') },
    logLevel: 'error',
  })
  bundles.set(source, outfile)
  return outfile
}
