import { existsSync, mkdirSync, readdirSync, renameSync, rmSync, statSync } from 'node:fs'
import path from 'node:path'
import { fileURLToPath } from 'node:url'
import { buildSync } from 'esbuild'

const ROOT = fileURLToPath(new URL('../..', import.meta.url))
// Inside node_modules, so that packages are found from there.
const BUNDLES = path.join('node_modules', '.cache', 'imbarco-bundles')
const CACHE = path.join(ROOT, BUNDLES)
/** What is native, or finds its parts by itself; all else is bundled. */
const EXTERNAL = [
  'koffi',
  '@napi-rs/blake-hash',
  'pino',
  'sequelize',
  'sqlite3',
  'umzug',
  'pdfkit',
  'wawoff2',
  'esbuild',
]

/** When the newest source was written, in milliseconds. */
let newest: number | undefined

function newestIn(folder: string): number {
  return Math.max(
    0,
    ...readdirSync(folder, { withFileTypes: true, recursive: true })
      .filter((entry) => entry.isFile())
      .map((entry) => statSync(path.join(entry.parentPath, entry.name)).mtimeMs),
  )
}

/**
 * The JavaScript of something written in TypeScript that runs in a thread or a process of its own: made once for the
 * sources as they are, whoever asks for it first.
 */
export function bundleFile(source: string): string {
  newest ??= Math.max(newestIn(path.join(ROOT, 'src')), newestIn(path.join(ROOT, 'tests', 'support')))
  const folder = path.join(CACHE, String(Math.floor(newest)))
  const outfile = path.join(folder, path.basename(source).replace(/ts$/, 'mjs'))
  if (existsSync(outfile)) return outfile
  mkdirSync(folder, { recursive: true })
  for (const old of readdirSync(CACHE)) {
    if (old !== path.basename(folder)) rmSync(path.join(CACHE, old), { recursive: true, force: true })
  }
  const partial = `${outfile}.${process.pid}`
  buildSync({
    entryPoints: [source],
    outfile: partial,
    bundle: true,
    platform: 'node',
    format: 'esm',
    target: 'node20',
    mainFields: ['module', 'main'],
    external: EXTERNAL,
    banner: {
      js: "import { createRequire as requireFrom } from 'node:module'; const require = requireFrom(import.meta.url)",
    },
    alias: { '@': path.join(ROOT, 'src') },
    logLevel: 'error',
  })
  renameSync(partial, outfile)
  return outfile
}

/** The JavaScript of a program that does what the server does, with its threads beside it. */
export function bundleWithThreads(program: string): string {
  const threads = ['src/server/jobs/threads/tasks.worker.ts', 'src/server/copying/copy.worker.ts']
  for (const thread of threads) bundleFile(path.join(ROOT, thread))
  return bundleFile(path.join(ROOT, program))
}

/** The JavaScript of a worker. Anything else than a worker written in TypeScript stays as it is. */
export function bundleOf(file: string | URL): string | URL {
  const source = file instanceof URL ? fileURLToPath(file) : file
  if (!source.endsWith('.ts')) return file
  // Asked for from a bundle, it lies beside that.
  return source.includes(BUNDLES) ? source.replace(/ts$/, 'mjs') : bundleFile(source)
}
