// Figures of surveys and conversions, beside plain tools on the same files.
import { execFileSync } from 'node:child_process'
import { rmSync, statSync } from 'node:fs'
import path from 'node:path'
import { SparseFileDevice } from '@/bench/sparse-file'
import { noise } from '@/bench/random'
import { alignDown, MIB } from '@/core/bytes/size'
import { SliceDevice } from '@/core/block/slice'
import { openFileSystem } from '@/core/filesystem'
import { formatNtfs } from '@/core/filesystem/ntfs/format'
import { writeGpt } from '@/core/scheme/gpt'
import { TYPE_GUIDS } from '@/core/scheme/types'
import { convertFile } from '@/host/convert'
import { openHostImage } from '@/host/images'

export type Line = (what: string, value: string) => void

const TB = 1e12
const FIRST = 2048

/** Surveys of large sparse images in a process of their own, with the most memory it took. */
export async function benchSurvey(folder: string, line: Line): Promise<void> {
  for (const terabytes of [2, 16]) {
    const file = path.join(folder, `large-${terabytes}.img`)
    const size = alignDown(terabytes * TB, MIB)
    await makeLarge(file, size)
    execFileSync('bin/imbarco', ['survey', file])
    const runs = [1, 2, 3].map(() => measured('bin/imbarco', 'survey', file))
    const seconds = Math.min(...runs.map((r) => r.seconds))
    const memory = Math.max(...runs.map((r) => r.memoryBytes))
    line(
      `survey of a ${terabytes} TB image, the command's start included`,
      `${seconds.toFixed(2)} s, ${(memory / MIB).toFixed(0)} MiB`,
    )

    const image = await openHostImage(file)
    const length = alignDown(size - FIRST * 512 - MIB, MIB)
    const volume = (await openFileSystem(new SliceDevice(image.device, FIRST * 512, length)))!
    const bitmapBytes = volume.totalBytes / volume.clusterSize / 8
    let runsFound = 0
    let rate = 0
    for (let round = 0; round < 3; round++) {
      runsFound = 0
      const start = performance.now()
      for await (const extent of volume.usedExtents()) if (extent.length > 0) runsFound++
      rate = Math.max(rate, bitmapBytes / ((performance.now() - start) / 1000))
    }
    line(
      `  its used-block map, ${(bitmapBytes / MIB).toFixed(0)} MiB, ${runsFound} runs`,
      `${(rate / 1e9).toFixed(2)} GB/s`,
    )
    await image.close()
    rmSync(file)
    rmSync(`${file}.map`)
  }
}

/** Raw into other formats, beside `cp --sparse=always` of the same file, both made safe on the disk. */
export async function benchConvert(folder: string, line: Line): Promise<void> {
  const file = path.join(folder, 'convert.img')
  const device = await SparseFileDevice.create(file, 4096 * MIB)
  const content = noise(64 * MIB, 7)
  // Half of it data, half of it never written, in stretches of 64 MiB.
  for (let at = 0; at < device.size; at += 128 * MIB) await device.write(at, content)
  await device.close()
  const plain = path.join(folder, 'plain.img')
  const rounds = [1, 2, 3]
  const cp = Math.min(
    ...rounds.map(() =>
      timed(plain, () => {
        execFileSync('cp', ['--sparse=always', file, plain])
        execFileSync('sync', [plain])
      }),
    ),
  )
  line('cp --sparse=always, 2 GiB of data in 4 GiB', `${cp.toFixed(2)} s`)
  for (const to of ['vhdx', 'qcow2', 'vhd', 'raw']) {
    const made = path.join(folder, `made.${to}`)
    const ours = Math.min(
      ...rounds.map(() => timed(made, () => execFileSync('bin/imbarco', ['convert', file, made, '--to', to]))),
    )
    line(`convert to ${to}, speed of cp taken as 1`, `${(cp / ours).toFixed(2)} (${ours.toFixed(2)} s)`)
  }
  await benchPacking(folder, line)
}

/** Packing as short as it gets, beside gzip -9 over the same file, which has one core. */
async function benchPacking(folder: string, line: Line): Promise<void> {
  const file = path.join(folder, 'text.img')
  const device = await SparseFileDevice.create(file, 256 * MIB)
  // Half of each stretch cannot be packed, the other half can.
  const content = noise(MIB, 9)
  for (let i = 0; i < content.length; i += 2) content[i] &= 15
  for (let at = 0; at < device.size; at += MIB) await device.write(at, content)
  await device.close()
  const made = path.join(folder, 'packed.qcow2')
  const ratios: number[] = []
  let cores = 0
  for (let round = 0; round < 3; round++) {
    const start = performance.now()
    execFileSync('sh', ['-c', 'gzip -9 -c "$1" > "$2"', 'sh', file, made])
    const plain = (performance.now() - start) / 1000
    rmSync(made)
    const before = process.cpuUsage()
    const from = performance.now()
    await convertFile(file, made, { to: 'qcow2-packed', time: 0 })
    const ours = (performance.now() - from) / 1000
    const { user, system } = process.cpuUsage(before)
    ratios.push(plain / ours)
    cores = Math.max(cores, (user + system) / 1e6 / ours)
    rmSync(made)
  }
  line(
    'convert to packed qcow2, speed of gzip -9 taken as 1',
    `${ratios.sort()[1].toFixed(2)}, ${cores.toFixed(1)} cores`,
  )
  rmSync(file)
}

function timed(output: string, work: () => void): number {
  const start = performance.now()
  work()
  const seconds = (performance.now() - start) / 1000
  if (statSync(output).size === 0) throw new Error(`${output} is empty.`)
  rmSync(output)
  return seconds
}

/** Runs a program and tells how long it took and the most memory it held. */
function measured(program: string, ...args: string[]): { seconds: number; memoryBytes: number } {
  const script =
    'import resource,subprocess,sys\nsubprocess.run(sys.argv[1:],stdout=subprocess.DEVNULL,check=True)\nprint(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)'
  const start = performance.now()
  const kilobytes = execFileSync('python3', ['-c', script, program, ...args], { encoding: 'utf8' })
  return { seconds: (performance.now() - start) / 1000, memoryBytes: Number(kilobytes) * 1024 }
}

/** A GPT with one NTFS volume over nearly all of it, a tenth used by files that were never written. */
async function makeLarge(file: string, size: number): Promise<void> {
  const device = await SparseFileDevice.create(file, size)
  const length = alignDown(size - FIRST * 512 - MIB, MIB)
  const entry = { number: 1, typeGuid: TYPE_GUIDS.basicData, guid: '11111111-2222-4333-8444-555555555501', name: '' }
  const partitions = [{ ...entry, firstLba: FIRST, lastLba: FIRST + length / 512 - 1, attributes: '0'.repeat(16) }]
  await writeGpt(device, {
    diskGuid: '91f0c1d2-1111-4222-8333-4444555533c7',
    entryCount: 128,
    entrySize: 128,
    partitions,
  })
  const files = Array.from({ length: 400 }, (_, i) => ({
    path: `/film ${i}.mov`,
    unwrittenBytes: alignDown(size / 4000, 4096),
    fragments: 1 + (i % 40),
    gap: 20_000,
  }))
  await formatNtfs(new SliceDevice(device, FIRST * 512, length), {
    label: 'Large',
    serial: 1n,
    startSector: FIRST,
    time: 1n,
    files,
  })
  await device.close()
}
