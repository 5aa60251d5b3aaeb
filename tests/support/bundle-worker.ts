import { mkdirSync, mkdtempSync } from 'node:fs'
import path from 'node:path'
import { fileURLToPath } from 'node:url'
import { buildSync } from 'esbuild'

const ROOT = fileURLToPath(new URL('../..', import.meta.url))
const bundles = new Map<string, string>()

/** The JavaScript of a worker written in TypeScript, bundled as the build does for the server. Anything else stays as it is. */
export function bundleOf(file: string | URL): string | URL {
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
