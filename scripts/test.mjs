// npm test: installs what is missing, the browser too, and runs everything: unit, then browser.
import { spawnSync } from 'node:child_process'
import { existsSync, mkdtempSync, rmSync, statfsSync } from 'node:fs'
import path from 'node:path'
import { bin, build, checkNode, install, run, SQLITE_HEADER, stop } from './ground.mjs'

/** Debian's packages that the tests use, with a program or file of each that tells whether it is there. */
const TOOLS = [
  ['libsqlite3-dev', SQLITE_HEADER],
  ['chromium', 'chromium'],
  ['chromium-headless-shell', 'chromium-headless-shell'],
  ['chromium-driver', 'chromedriver'],
  ['7zip', '7zz'],
  ['gdisk', 'sgdisk'],
  ['dosfstools', 'fsck.fat'],
  ['ntfs-3g', 'mkntfs'],
  ['python3', 'python3'],
  ['e2fsprogs', 'mkfs.ext4'],
  ['exfatprogs', 'mkfs.exfat'],
  ['exfat-fuse', 'mount.exfat-fuse'],
  ['apfsprogs', 'mkapfs'],
  ['cryptsetup-bin', 'cryptsetup'],
  ['fdisk', 'sfdisk'],
  ['mtools', 'mcopy'],
  ['zstd', 'zstd'],
  ['util-linux', 'mkswap'],
  ['libhivex-bin', 'hivexsh'],
  ['libvhdi-utils', 'vhdimount'],
  ['libqcow-utils', 'qcowmount'],
  ['libvmdk-utils', 'vmdkmount'],
  ['libxml2-utils', 'xmllint'],
  ['nbdkit', 'nbdkit'],
  ['nbd-server', 'nbd-server'],
  ['libnbd-bin', 'nbdinfo'],
  ['python3-libnbd', 'nbdsh'],
  ['iproute2', 'ip'],
  ['qemu-system-x86', 'qemu-system-x86_64'],
  ['ovmf', '/usr/share/OVMF/OVMF_CODE_4M.fd'],
]

const BROWSER = ['chromium', 'chromium-headless-shell', 'chromium-driver']

/** What is tested before the pages are built. */
const WITHOUT_BROWSER = ['core', 'unit', 'server'].flatMap((name) => ['--project', name])

/** A file system in memory, and how much of it has to be free. */
const MEMORY = '/dev/shm'
const NEEDED_BYTES = 8 * 2 ** 30

checkNode()
const given = process.argv.slice(2)
if (given.includes('--tools')) {
  installTools()
  process.exit()
}
installTools()
await install()
const rest = given.filter((argument) => argument !== '--deep')
inMemory()
// Tests make much that lives shortly; collecting it less often costs memory only.
process.env.NODE_OPTIONS = [process.env.NODE_OPTIONS, '--max-semi-space-size=64'].filter(Boolean).join(' ')
// The long property, damage and sweep runs, in place of the quick ones.
if (given.includes('--deep')) process.env.IMBARCO_DEEP = '1'
if (given.includes('--deep') && rest.length === 0) {
  run(bin('vitest'), ['run', ...WITHOUT_BROWSER])
} else if (rest.length > 0) {
  await build()
  run(bin('vitest'), ['run', ...rest])
} else {
  run(bin('vitest'), ['run', ...WITHOUT_BROWSER])
  await build()
  // Several servers run side by side, and each would compile and collect in four threads of its own.
  process.env.NODE_OPTIONS += ' --v8-pool-size=1'
  run(bin('vitest'), ['run', '--project', 'browser'])
}

/** Has the drives and images of the tests lie in memory where there is plenty of it, and takes them away at the end. */
function inMemory() {
  if (process.env.TMPDIR || !existsSync(MEMORY)) return
  const { bavail, bsize } = statfsSync(MEMORY)
  if (bavail * bsize < NEEDED_BYTES) return
  const folder = mkdtempSync(path.join(MEMORY, 'imbarco-'))
  process.env.TMPDIR = folder
  process.on('exit', () => rmSync(folder, { recursive: true, force: true }))
}

function installTools() {
  const missing = TOOLS.filter(
    ([, program]) =>
      spawnSync('sh', ['-c', `command -v ${program} || test -e ${program} || test -x /usr/sbin/${program}`]).status !==
      0,
  )
  if (missing.length === 0) return
  const names = missing.map(([name]) => name)
  // A browser and its driver have to be of one version.
  if (names.some((name) => BROWSER.includes(name))) names.push(...BROWSER.filter((name) => !names.includes(name)))
  if (spawnSync('apt-get', ['--version']).status !== 0) {
    stop(
      `The tests need ${names.join(', ')}, and there is no apt-get here to install them with. Install them and run npm test again.`,
    )
  }
  console.log(`Installing ${names.join(', ')}.`)
  const sudo = process.getuid?.() === 0 ? [] : ['sudo', '-n']
  const apt = (...args) =>
    run([...sudo, 'apt-get'][0], [...sudo.slice(1), ...(sudo.length ? ['apt-get'] : []), ...args], {
      stdio: ['ignore', 'ignore', 'inherit'],
    })
  apt('update')
  apt('install', '-y', '--no-install-recommends', ...names)
}
