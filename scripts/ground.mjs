// What every command needs before anything of the project can run: plain Node, no packages.
import { spawn, spawnSync } from 'node:child_process'
import { createHash } from 'node:crypto'
import { existsSync, readdirSync, readFileSync, statfsSync, writeFileSync } from 'node:fs'
import { createServer } from 'node:net'
import path from 'node:path'
import { fileURLToPath } from 'node:url'

export const ROOT = path.dirname(path.dirname(fileURLToPath(import.meta.url)))
const OLDEST_NODE = [20, 9]
const MIB = 1024 * 1024

/** Ends with one sentence; nothing else of ours is printed. */
export function stop(sentence) {
  console.error(sentence)
  process.exit(1)
}

export function checkNode(version = process.versions.node) {
  const [major, minor] = version.split('.').map(Number)
  if (major < OLDEST_NODE[0] || (major === OLDEST_NODE[0] && minor < OLDEST_NODE[1])) {
    stop(
      `Imbarco needs Node.js ${OLDEST_NODE.join('.')} or newer, and this is ${version}. Install a newer one and run the command again.`,
    )
  }
}

export function checkRoom(neededMib, folder = ROOT) {
  const { bavail, bsize } = statfsSync(folder)
  const free = Math.floor((bavail * bsize) / MIB)
  if (free < neededMib) {
    stop(
      `The disk that holds ${folder} has ${free} MiB free, and about ${neededMib} MiB are needed. Free some room and run the command again.`,
    )
  }
}

/** `data`: the folder whose server may be the one that has the port. */
export function checkPort(port, host = '127.0.0.1', data = '') {
  return new Promise((resolve) => {
    const probe = createServer()
    probe.once('error', (error) => {
      if (error.code === 'EADDRINUSE') {
        const address = servedFrom(data)
        if (address)
          stop(`Imbarco is running with this data folder already, at ${address}. Open it there, or stop it first.`)
        stop(
          `Port ${port} is in use by another program. Stop that, or choose another port: npm run demo -- --port ${port + 1}`,
        )
      }
      stop(`Port ${port} cannot be opened on ${host}: ${error.message}.`)
    })
    probe.listen(port, host, () => probe.close(() => resolve()))
  })
}

/** Whether nothing listens on a port of this computer. */
export function isFree(port) {
  return new Promise((resolve) => {
    const probe = createServer()
    probe.once('error', () => resolve(false))
    probe.listen(port, '127.0.0.1', () => probe.close(() => resolve(true)))
  })
}

/** Where a server that holds a data folder is reached; undefined where none does. */
function servedFrom(data) {
  try {
    const { pid, address } = JSON.parse(readFileSync(path.join(data, 'in-use.json'), 'utf8'))
    process.kill(pid, 0)
    return address || undefined
  } catch {
    return undefined
  }
}

/** Runs a command with its output shown; ends the program with its code when it fails. */
export function run(command, args, options = {}) {
  const { status, error } = spawnSync(command, args, { cwd: ROOT, stdio: 'inherit', ...options })
  if (error) stop(`${command} could not be run: ${error.message}.`)
  if (status !== 0) process.exit(status ?? 1)
}

/** As `run`, for what takes minutes and says little meanwhile: seconds are counted beside `what` until it has ended. */
export async function runCounting(what, command, args, options = {}) {
  const start = Date.now()
  const seconds = () => `${Math.round((Date.now() - start) / 1000)} s`
  const onScreen = process.stderr.isTTY
  if (!onScreen) console.error(what)
  const tick = () => process.stderr.write(onScreen ? `\r${what} ${seconds()}` : `  ${seconds()}\n`)
  const timer = setInterval(tick, onScreen ? 1000 : 30_000)
  const child = spawn(command, args, { cwd: ROOT, stdio: 'inherit', ...options })
  const code = await new Promise((resolve) => {
    child.once('error', (error) => stop(`${command} could not be run: ${error.message}.`))
    child.once('close', (status) => resolve(status ?? 1))
  })
  clearInterval(timer)
  if (onScreen) process.stderr.write(`\r${what} ${code === 0 ? `done in ${seconds()}.` : ''}\n`)
  if (code !== 0) process.exit(code)
}

/** The program of an installed package. */
export function bin(name) {
  return path.join(ROOT, 'node_modules', '.bin', name)
}

/** Where SQLite has to be compiled, somebody waits for it; what it does here takes no time worth three minutes of that. */
const QUICKLY_COMPILED = { CFLAGS: '-Og -g0', CXXFLAGS: '-Og -g0', JOBS: '2' }

/** Where Linux keeps what is needed to build against its own SQLite, the package libsqlite3-dev on Debian. */
export const SQLITE_HEADER = '/usr/include/sqlite3.h'
/** The oldest SQLite that understands every statement in use, RETURNING among them: 3.35. */
const OLDEST_SQLITE = 3_035_000

/** The system's own SQLite where it can be built against, which saves compiling another one. */
function ownSqlite() {
  if (process.platform !== 'linux' || !existsSync(SQLITE_HEADER)) return {}
  const [, version] = /#define SQLITE_VERSION_NUMBER\s+(\d+)/.exec(readFileSync(SQLITE_HEADER, 'utf8')) ?? []
  return Number(version) >= OLDEST_SQLITE ? { GYP_DEFINES: 'sqlite=/usr' } : {}
}

/**
 * Installs the packages of the lock file unless they are the ones that are there. `only`: its `packages` alone, or then
 * what is `native` in them, for whoever has something else to do meanwhile; together they are all of it.
 */
export async function install({ only } = {}) {
  const mark = path.join(ROOT, 'node_modules', '.imbarco-installed')
  const wanted = createHash('sha256')
    .update(readFileSync(path.join(ROOT, 'package-lock.json')))
    .update(process.versions.modules)
    .digest('hex')
  if (existsSync(mark) && readFileSync(mark, 'utf8') === wanted) return
  checkRoom(2500)
  // Not "ci": that refuses the whole lock file when a registry lacks a package for another system.
  const packages = ['install', '--no-save', '--no-audit', '--no-fund', '--no-progress']
  if (only === 'packages') return run('npm', [...packages, '--ignore-scripts'])
  await runCounting(
    'Installing what is missing, which takes a few minutes the first time.',
    'npm',
    only === 'native' ? ['rebuild'] : packages,
    { env: { ...QUICKLY_COMPILED, ...ownSqlite(), ...process.env } },
  )
  writeFileSync(mark, wanted)
}

/** Builds unless the build that is there was made from these very sources. */
export async function build() {
  const mark = path.join(ROOT, '.next', 'imbarco-sources')
  const wanted = sourcesHash()
  if (existsSync(mark) && existsSync(path.join(ROOT, '.next', 'BUILD_ID')) && readFileSync(mark, 'utf8') === wanted)
    return
  checkRoom(600)
  await runCounting('Building, which takes a minute or two.', bin('next'), ['build'], {
    env: { ...process.env, NEXT_TELEMETRY_DISABLED: '1' },
    stdio: ['ignore', 'ignore', 'inherit'],
  })
  writeFileSync(mark, wanted)
}

/** Makes the demo bench when there is none; `reset` throws away what was there. */
export function makeBench({ reset = false, env = process.env, honeyHouse = false } = {}) {
  const options = [...(reset ? ['--reset'] : []), ...(honeyHouse ? ['--honey-house'] : [])]
  run(bin('tsx'), ['scripts/make-bench.ts', ...options], { env })
}

/**
 * Calls each kind of page and route of a server that has just started once: the first call loads what all later ones
 * use, for which neither a person nor a copy that runs should have to wait.
 */
export async function warmUp(address, pages = DEMO_PAGES) {
  for (const page of pages) await fetch(address + page).catch(() => {})
}

const DEMO_PAGES = [
  '/',
  '/bench',
  '/images',
  '/drives/crv3-240',
  '/moves/ticket-desk/intake',
  '/api/moves/ticket-desk/copy',
]

function sourcesHash() {
  const hash = createHash('sha256')
  const add = (file) => hash.update(file).update(readFileSync(path.join(ROOT, file)))
  const walk = (folder) => {
    for (const entry of readdirSync(path.join(ROOT, folder), { withFileTypes: true }).sort((a, b) =>
      a.name < b.name ? -1 : 1,
    )) {
      const file = path.join(folder, entry.name)
      if (entry.isDirectory()) walk(file)
      else if (!/\.test\.tsx?$/.test(entry.name)) add(file)
    }
  }
  walk('src')
  for (const file of ['package-lock.json', 'next.config.ts', 'postcss.config.mjs', 'tsconfig.json']) add(file)
  return hash.digest('hex')
}
