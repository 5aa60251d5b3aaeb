// A disk that is lent, read through the loopback, beside independent programs of the same protocol on the same file.
import { execFileSync, spawn } from 'node:child_process'
import { once } from 'node:events'
import { rmSync, writeFileSync } from 'node:fs'
import path from 'node:path'
import { noise } from '@/bench/random'
import { MIB } from '@/core/bytes/size'
import { nbdAddress } from '@/nbd/address'
import { NbdFile } from '@/nbd/client'
import { keyOfCode } from '@/nbd/key'
import type { Line } from './bench-images'

const SIZE = 1024 * MIB
const ROUNDS = 5
const PORT = 10_877

export async function benchNetwork(folder: string, line: Line): Promise<void> {
  const file = path.join(folder, 'lent.img')
  const content = noise(64 * MIB, 3)
  for (let at = 0; at < SIZE; at += content.length) writeFileSync(file, content, { flag: 'a' })
  const psk = path.join(folder, 'lent.psk')
  const ours = spawn('bin/imbarco', ['lend', file, '--allow', '--json', '--port', '0', '--psk-file', psk])
  const [first] = (await once(ours.stdout, 'data')) as [Buffer]
  const { uri, code } = JSON.parse(first.toString()) as { uri: string; code: string }
  const theirs = spawn('nbdkit', ['-f', '-p', `${PORT}`, '--tls=require', `--tls-psk=${psk}`, 'file', file])
  const other = `nbds://imbarco@127.0.0.1:${PORT}/`
  try {
    await readAll(uri, code)
    copyOut(uri, psk)
    const pairs: { both: number; lends: number; borrows: number; plain: number }[] = []
    for (let round = 0; round < ROUNDS; round++)
      pairs.push({
        plain: seconds(() => copyOut(other, psk)),
        both: await secondsOf(() => readAll(uri, code)),
        lends: seconds(() => copyOut(uri, psk)),
        borrows: await secondsOf(() => readAll(other, code)),
      })
    const tell = (what: string, ours: 'both' | 'lends' | 'borrows') => {
      const ratios = pairs.map((p) => p.plain / p[ours]).sort((a, b) => a - b)
      const median = ratios[Math.floor(ROUNDS / 2)]
      line(
        `${what}, speed of other programs as 1`,
        `${median.toFixed(2)} (${ratios[0].toFixed(2)} to ${ratios.at(-1)!.toFixed(2)})`,
      )
    }
    const plain = pairs.map((p) => p.plain).sort((a, b) => a - b)[Math.floor(ROUNDS / 2)]
    line('1 GiB by a key through the loopback, other programs', `${(SIZE / 1e6 / plain).toFixed(0)} MB/s`)
    tell('  lent and borrowed here', 'both')
    tell('  lent here, borrowed by another', 'lends')
    tell('  lent by another, borrowed here', 'borrows')
  } finally {
    ours.kill()
    theirs.kill()
    rmSync(file)
  }
}

async function readAll(uri: string, code: string): Promise<void> {
  const lent = await NbdFile.open(nbdAddress(uri), { key: keyOfCode(code) })
  const buffers = [0, 1].map(() => new Uint8Array(4 * MIB))
  // Two at once, as a copy reads ahead of what it writes.
  let at = 0
  await Promise.all(
    buffers.map(async (buffer) => {
      while (at < SIZE) {
        const from = at
        at += buffer.length
        await lent.read(from, buffer)
      }
    }),
  )
  await lent.close()
}

function copyOut(uri: string, psk: string): void {
  execFileSync('nbdcopy', [`${uri}?tls-psk-file=${psk}`, 'null:'])
}

function seconds(work: () => void): number {
  const start = performance.now()
  work()
  return (performance.now() - start) / 1000
}

async function secondsOf(work: () => Promise<void>): Promise<number> {
  const start = performance.now()
  await work()
  return (performance.now() - start) / 1000
}
