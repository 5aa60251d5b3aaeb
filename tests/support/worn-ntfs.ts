import { execFileSync, spawn } from 'node:child_process'
import {
  closeSync,
  linkSync,
  mkdirSync,
  openSync,
  readFileSync,
  rmSync,
  statSync,
  truncateSync,
  unlinkSync,
  writeFileSync,
  writeSync,
} from 'node:fs'
import path from 'node:path'
import { setTimeout } from 'node:timers/promises'
import { toHex } from '@/core/digest'
import { blake3 } from '@/host/strong-digest'

// NTFS volumes made by mkntfs and filled through the ntfs-3g driver, in shapes that only long use makes.

const env = { ...process.env, PATH: `${process.env.PATH}:/usr/sbin:/sbin` }
const run = (program: string, ...args: string[]) =>
  execFileSync(program, args, { encoding: 'utf8', env, stdio: 'pipe' })

export interface Shape {
  readonly clusterBytes: number
  readonly sizeBytes: number
  /** Small files, of which every other one is deleted again, so that free space lies in single clusters. */
  readonly crumbs: number
  /** Files with long names, so that the file table itself grows between other things. */
  readonly names?: number
  /** Bytes of a file written while nearly everything in front of it is full. */
  readonly lateBytes: number
}

/** Makes an empty volume in a sparse file. */
export function makeNtfs(file: string, { sizeBytes, clusterBytes }: Pick<Shape, 'sizeBytes' | 'clusterBytes'>): void {
  writeFileSync(file, '')
  truncateSync(file, sizeBytes)
  run('mkntfs', '-q', '-F', '-f', '-s', '512', '-p', '2048', '-H', '255', '-S', '63', '-c', String(clusterBytes), file)
}

/** Calls `work` with the folder at which the volume is mounted for reading and writing. */
export async function withNtfs<T>(file: string, work: (folder: string) => T): Promise<T> {
  const folder = `${file}.mounted`
  mkdirSync(folder, { recursive: true })
  const driver = spawn('ntfs-3g', ['-o', 'no_detach,streams_interface=windows', file, folder], { env, stdio: 'pipe' })
  let said = ''
  driver.stderr.on('data', (text) => (said += text))
  // The driver writes the rest when its program ends, which unmounting does not wait for.
  const ended = new Promise<void>((resolve) => driver.once('exit', () => resolve()))
  while (!readFileSync('/proc/mounts', 'utf8').includes(` ${folder} `)) {
    if (driver.exitCode !== null) throw new Error(`The driver does not mount it: ${said}`)
    await setTimeout(5)
  }
  try {
    return work(folder)
  } finally {
    run('umount', folder)
    await ended
  }
}

/** Bytes that tell their place and their file. */
export function bytesOf(length: number, seed: number): Buffer {
  const bytes = Buffer.alloc(length)
  for (let i = 0; i + 8 <= length; i += 256) {
    bytes.writeUInt32LE(seed, i)
    bytes.writeUInt32LE(i, i + 4)
  }
  return bytes
}

/** Fills a volume; returns the digest of every file and stream by its path. */
export async function wearNtfs(file: string, shape: Shape): Promise<Map<string, string>> {
  const digests = new Map<string, string>()
  await withNtfs(file, (folder) => {
    const put = (name: string, bytes: Buffer) => {
      writeFileSync(path.join(folder, name), bytes)
      digests.set(name, toHex(blake3(bytes)))
    }
    mkdirSync(path.join(folder, 'Crumbs'))
    mkdirSync(path.join(folder, 'Long names'))
    const crumb = Math.max(shape.clusterBytes, 1024)
    for (let i = 0; i < shape.crumbs; i++) put(`Crumbs/${i}`, bytesOf(crumb, i))
    put('early.bin', bytesOf(crumb * 5 + 77, 900_001))
    // Two files that grow in turns lie in as many pieces as there were turns.
    const turns = ['left.bin', 'right.bin'].map((name) => openSync(path.join(folder, name), 'w'))
    const parts: Buffer[][] = [[], []]
    for (let i = 0; i < 120; i++) {
      turns.forEach((fd, side) => {
        const part = bytesOf(crumb, 800_000 + i * 2 + side)
        writeSync(fd, part)
        parts[side].push(part)
      })
    }
    turns.forEach(closeSync)
    ;['left.bin', 'right.bin'].forEach((name, side) => digests.set(name, toHex(blake3(Buffer.concat(parts[side])))))
    for (let i = 0; i < (shape.names ?? 200); i++) {
      put(`Long names/${'a name that is long for a reason '.repeat(3)}${i}.txt`, bytesOf(100 + (i % 600), i))
    }
    put('late.bin', bytesOf(shape.lateBytes, 900_002))
    put('Long names/stream.txt', bytesOf(40, 900_003))
    put('Long names/stream.txt:beside', bytesOf(crumb * 3, 900_004))
    linkSync(path.join(folder, 'early.bin'), path.join(folder, 'Long names', 'second name.bin'))
    digests.set('Long names/second name.bin', digests.get('early.bin')!)
    for (let i = 0; i < shape.crumbs; i += 2) {
      unlinkSync(path.join(folder, 'Crumbs', String(i)))
      digests.delete(`Crumbs/${i}`)
    }
  })
  return digests
}

/** The volume mounted and used: what of it is not as it was before. */
export async function useNtfs(file: string, digests: ReadonlyMap<string, string>): Promise<string[]> {
  return withNtfs(file, (folder) => {
    const wrong: string[] = []
    for (const [name, digest] of digests) {
      const bytes = readFileSync(path.join(folder, name))
      if (toHex(blake3(bytes)) !== digest) wrong.push(name)
    }
    // Used as its owner would: links, longer files, new ones, deleted ones.
    for (const name of ['late.bin', 'left.bin', 'early.bin'])
      linkSync(path.join(folder, name), path.join(folder, `${name}.link`))
    for (let i = 0; i < 20; i++) writeFileSync(path.join(folder, `new ${i}`), bytesOf(300, i))
    truncateSync(path.join(folder, 'right.bin'), statSync(path.join(folder, 'right.bin')).size - 1000)
    rmSync(path.join(folder, 'late.bin'))
    return wrong
  })
}
