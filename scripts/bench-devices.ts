// An every-sector copy between two loop devices of the kernel, beside dd past the kernel's memory on the same ones.
import { execFileSync, spawnSync } from 'node:child_process'
import { closeSync, openSync, rmSync, truncateSync, writeSync } from 'node:fs'
import path from 'node:path'
import { noise } from '@/bench/random'
import { GIB, MIB } from '@/core/bytes/size'
import type { Line } from './bench-images'

const SIZE = 2 * GIB
const ROUNDS = 5

export async function benchDevices(folder: string, line: Line): Promise<void> {
  const [source, target] = ['source.img', 'target.img'].map((name) => path.join(folder, name))
  const piece = noise(64 * MIB, 3)
  const file = openSync(source, 'w')
  for (let at = 0; at < SIZE; at += piece.length) writeSync(file, piece, 0, piece.length, at)
  closeSync(file)
  closeSync(openSync(target, 'w'))
  truncateSync(target, SIZE)
  const loops: string[] = []
  try {
    for (const one of [source, target]) {
      const made = spawnSync('losetup', ['-f', '--show', '--direct-io=on', one], { encoding: 'utf8' })
      if (made.status !== 0) {
        line('between two loop devices', 'not measured: the kernel gives none here')
        return
      }
      loops.push(made.stdout.trim())
    }
    const [from, to] = loops
    const plain = () =>
      seconds(() =>
        execFileSync(
          'dd',
          [`if=${from}`, `of=${to}`, 'bs=8M', 'iflag=direct', 'oflag=direct', 'conv=fsync', 'status=none'],
          { stdio: 'pipe' },
        ),
      )
    const options = ['--every-sector', '--no-verify', '--overwrite', '--plate', String(SIZE / 512).slice(-4)]
    const report = () =>
      JSON.parse(execFileSync('bin/imbarco', ['copy', from, to, ...options, '--json'], { encoding: 'utf8' })) as {
        seconds: number
      }
    plain()
    const pairs = Array.from({ length: ROUNDS }, () => ({ plain: plain(), own: report().seconds }))
    const ratios = pairs.map((p) => p.plain / p.own).sort((a, b) => a - b)
    const middle = ratios[Math.floor(ROUNDS / 2)]
    line('every sector between two loop devices, 2 GiB, dd direct', `${rate(pairs.map((p) => p.plain))} MB/s`)
    line('  speed, dd taken as 1', `${middle.toFixed(2)} (${ratios[0].toFixed(2)} to ${ratios.at(-1)!.toFixed(2)})`)
  } finally {
    for (const loop of loops) spawnSync('losetup', ['-d', loop])
    for (const one of [source, target]) rmSync(one, { force: true })
  }
}

const rate = (seconds: number[]) => (SIZE / 1e6 / seconds.sort((a, b) => a - b)[Math.floor(ROUNDS / 2)]).toFixed(0)

function seconds(work: () => void): number {
  const start = performance.now()
  work()
  return (performance.now() - start) / 1000
}
