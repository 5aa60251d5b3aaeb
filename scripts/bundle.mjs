// npm run bundle -- [OUT.tar.gz]: the program with its built pages and packages in one file, to be run where there is
// no network: tar -xzf OUT.tar.gz && cd imbarco && npm run demo
import { spawnSync } from 'node:child_process'
import { existsSync, mkdirSync, rmSync, statSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { build, checkNode, install, ROOT, run, stop } from './ground.mjs'

const out = path.resolve(process.argv[2] ?? path.join('build', 'imbarco.tar.gz'))
/** What is in it besides packages. */
const OWN = [
  ...['LICENSE', 'README.md', 'package.json', 'package-lock.json', 'tsconfig.json', 'next.config.ts'],
  ...['postcss.config.mjs', 'bin', 'build/imbarco.mjs', 'docs', 'scripts', 'src', '.next'],
]
/** Packages that are only there to develop, but for those by which its scripts run. */
const NEEDED = [':root > .prod', ':root > .prod *', '#tsx', '#tsx *', '#esbuild', '#esbuild *']

checkNode()
await install()
await build()
// The command is bundled into one file when it is first called.
run(process.execPath, ['bin/imbarco', '--help'], { stdio: 'ignore' })

const list = path.join(tmpdir(), `imbarco-bundle-${process.pid}`)
const files = [...OWN, ...packages(), 'node_modules/.bin', 'node_modules/.imbarco-installed']
writeFileSync(list, files.filter((file) => existsSync(path.join(ROOT, file))).join('\n'))
mkdirSync(path.dirname(out), { recursive: true })
try {
  // Pages are served from what was built; what the building kept for the next one is not needed.
  const left = ['--exclude=.next/cache', '--exclude=.next/dev', '--exclude=*.test.ts', '--exclude=*.test.tsx']
  run('tar', ['-C', ROOT, ...left, '--transform=flags=rh;s,^,imbarco/,', '-czf', out, '-T', list])
} finally {
  rmSync(list, { force: true })
}
console.log(`${out}, ${Math.round(statSync(out).size / 2 ** 20)} MiB. Where it is to run, with Node.js and tar:`)
console.log(`  tar -xzf ${path.basename(out)} && cd imbarco && npm run demo`)

/** Folders of the packages that run it, as npm knows them. */
function packages() {
  const asked = spawnSync('npm', ['query', NEEDED.join(', ')], { cwd: ROOT, encoding: 'utf8', maxBuffer: 2 ** 28 })
  if (asked.status !== 0) stop(`npm could not tell which packages are needed: ${asked.stderr}`)
  const found = JSON.parse(asked.stdout).map(({ location }) => location)
  // One that lies in another comes along with it.
  return found.filter((one) => one && !found.some((other) => other !== one && one.startsWith(`${other}/`)))
}
