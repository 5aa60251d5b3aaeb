// A disk that is lent, read through the loopback, beside independent programs of the same protocol on the same file.
import { type ChildProcess, execFileSync, spawn, spawnSync } from 'node:child_process'
import { once } from 'node:events'
import { rmSync, writeFileSync } from 'node:fs'
import path from 'node:path'
import { noise } from '@/bench/random'
import { MIB } from '@/core/bytes/size'
import type { Line } from './bench-images'
import { readLent } from './read-lent'

const SIZE = 1024 * MIB
const ROUNDS = 5
const PORT = 10_877

export async function benchNetwork(folder: string, line: Line): Promise<void> {
  const file = path.join(folder, 'lent.img')
  const content = noise(64 * MIB, 3)
  for (let at = 0; at < SIZE; at += content.length) writeFileSync(file, content, { flag: 'a' })
  try {
    await throughLoopback(folder, file, line)
    await throughGigabit(folder, file, line)
  } finally {
    rmSync(file)
  }
}

async function throughLoopback(folder: string, file: string, line: Line): Promise<void> {
  const psk = path.join(folder, 'lent.psk')
  const ours = spawn('bin/imbarco', ['lend', file, '--allow', '--json', '--port', '0', '--psk-file', psk])
  const [first] = (await once(ours.stdout, 'data')) as [Buffer]
  const { uri, code } = JSON.parse(first.toString()) as { uri: string; code: string }
  const theirs = spawn('nbdkit', ['-f', '-p', `${PORT}`, '--tls=require', `--tls-psk=${psk}`, 'file', file])
  const other = `nbds://imbarco@127.0.0.1:${PORT}/`
  try {
    await readLent(uri, code)
    copyOut(uri, psk)
    const pairs: { both: number; lends: number; borrows: number; plain: number }[] = []
    for (let round = 0; round < ROUNDS; round++)
      pairs.push({
        plain: seconds(() => copyOut(other, psk)),
        both: await readLent(uri, code),
        lends: seconds(() => copyOut(uri, psk)),
        borrows: await readLent(other, code),
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
  }
}

const [HERE, THERE] = ['imbarco-bench-here', 'imbarco-bench-there']

/** Between two namespaces of the kernel whose cable carries a gigabit, beside another program without any key. */
async function throughGigabit(folder: string, file: string, line: Line): Promise<void> {
  const ip = (words: string) => execFileSync('ip', words.split(' '), { stdio: 'pipe' })
  try {
    for (const space of [HERE, THERE]) ip(`netns add ${space}`)
  } catch {
    line('a gigabit link', 'not measured: there are no namespaces here')
    return
  }
  const children: ChildProcess[] = []
  try {
    ip(`link add here netns ${HERE} type veth peer name there netns ${THERE}`)
    for (const [space, name, address] of [
      [HERE, 'here', '10.99.8.1/24'],
      [THERE, 'there', '10.99.8.2/24'],
    ]) {
      ip(`-n ${space} address add ${address} dev ${name}`)
      for (const device of ['lo', name]) ip(`-n ${space} link set ${device} up`)
      ip(`netns exec ${space} tc qdisc add dev ${name} root tbf rate 1gbit burst 128kb latency 50ms`)
    }
    const psk = path.join(folder, 'lent.psk')
    const lend = `netns exec ${THERE} bin/imbarco lend ${file} --allow --json --bind 10.99.8.2 --port 0 --psk-file`
    rmSync(psk, { force: true })
    const ours = spawn('ip', [...lend.split(' '), psk])
    const theirs = spawn('ip', `netns exec ${THERE} nbdkit -f -i 10.99.8.2 -p ${PORT} file ${file}`.split(' '))
    children.push(ours, theirs)
    const [first] = (await once(ours.stdout, 'data')) as [Buffer]
    const { uri, code } = JSON.parse(first.toString()) as { uri: string; code: string }
    const plain = () =>
      seconds(() => execFileSync('ip', `netns exec ${HERE} nbdcopy nbd://10.99.8.2:${PORT}/ null:`.split(' ')))
    const own = () =>
      Number(execFileSync('ip', `netns exec ${HERE} node --import tsx scripts/read-lent.ts ${uri} ${code}`.split(' ')))
    plain()
    const pairs = Array.from({ length: ROUNDS }, () => ({ plain: plain(), own: own() }))
    const medianOf = (numbers: number[]) => numbers.sort((a, b) => a - b)[Math.floor(ROUNDS / 2)]
    const rate = (seconds: number) => `${(SIZE / 1e6 / seconds).toFixed(1)} MB/s`
    line('1 GiB through a gigabit link, other programs without a key', rate(medianOf(pairs.map((p) => p.plain))))
    line('  lent and borrowed here by a key', rate(medianOf(pairs.map((p) => p.own))))
    line('  speed of other programs as 1', medianOf(pairs.map((p) => p.plain / p.own)).toFixed(3))
  } finally {
    for (const child of children) child.kill('SIGKILL')
    for (const space of [HERE, THERE]) spawnSync('ip', ['netns', 'del', space])
  }
}

function copyOut(uri: string, psk: string): void {
  execFileSync('nbdcopy', [`${uri}?tls-psk-file=${psk}`, 'null:'])
}

function seconds(work: () => void): number {
  const start = performance.now()
  work()
  return (performance.now() - start) / 1000
}
