import path from 'node:path'
import { formatSize, MIB } from '@/core/bytes/size'
import { planImage } from '@/core/copy/plan-whole'
import { lostWords } from '@/core/copy/progress'
import { driversOn } from '@/core/drivers/on-drive'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { DISK_FORMATS, type DiskFormat } from '@/core/vm/ovf'
import { ASKED_DRIVERS, proposeMachine } from '@/core/vm/propose'
import { counted } from '@/core/words'
import { type HostImage, openHostImage } from '@/host/images'
import { diskName, PACKAGE_FORMAT, writePackage } from '@/host/package'
import { sha256 } from '@/host/sha256'
import { type Io, json, type Options, percentOn, STOPS } from './commands'
import { keyOf, ChangedMeanwhile, refuseSources, WrongUse } from './open'

export interface VmOptions extends Omit<Options, 'to'> {
  readonly out: string
  readonly memory?: number
  readonly processors?: number
  readonly format?: DiskFormat
  readonly name?: string
}

export const DISK_FORMAT_NAMES = Object.keys(DISK_FORMATS) as DiskFormat[]

/** Writes drives of one computer as a virtual machine, a package with its descriptor; says what it proposes and why. */
export async function vm(sources: readonly string[], options: VmOptions, io: Io): Promise<number> {
  const { out, format = PACKAGE_FORMAT, memory, processors } = options
  const start = performance.now()
  const images: HostImage[] = []
  try {
    const key = await keyOf(options)
    for (const source of sources) images.push(await openHostImage(source, { sectorSize: options.sectorSize, key }))
    await refuseSources(
      images.flatMap((image) => image.paths),
      out,
    )
    if (new Set(images.map((image, i) => image.paths.at(0) ?? sources[i])).size < images.length)
      throw new WrongUse('A virtual machine has each disk once.')
    const name = options.name ?? path.basename(out).replace(/\.ova$/i, '')
    const drives: { survey: DriveSurvey; file: string }[] = []
    for (const [i, { device }] of images.entries()) {
      const survey = await surveyDrive(device, sha256)
      drives.push({ survey, file: diskName(name, i, format) })
    }
    const drivers = await driversOn(images[0].device, drives[0].survey, ASKED_DRIVERS)
    const proposal = proposeMachine({ name, drives, drivers, memoryBytes: memory, processors })
    const plans = []
    for (const { device } of images) plans.push(await planImage(device))
    const total = plans.reduce((sum, plan) => sum + plan.totalBytes, 0) * 2
    const percent = percentOn(io)
    let done = 0
    const written = await writePackage(
      proposal.machine,
      plans.map((plan, i) => ({ plan, file: drives[i].file })),
      out,
      {
        format,
        time: Date.now(),
        checkpoint: () => io.signal.throwIfAborted(),
        beforeTables: async () => {
          for (const [i, image] of images.entries()) if (await image.changed()) throw new ChangedMeanwhile(sources[i])
        },
        onStep: async (_disk, { phase, bytes }) => {
          if (phase === 'copy' || phase === 'rescue' || phase === 'check') done += bytes
          percent({ doneBytes: Math.min(done, total), totalBytes: total })
        },
      },
    )
    const lost = written.outcomes.flatMap((outcome) => [...outcome.lost])
    const report = {
      sources,
      out,
      format,
      ...proposal,
      files: written.files,
      verified: written.outcomes.every((outcome) => outcome.checkedBytes > 0),
      lost,
      seconds: Math.round((performance.now() - start) / 10) / 100,
    }
    await io.print(options.json ? json(report) : vmText(report))
    return lost.length > 0 ? STOPS : 0
  } finally {
    for (const image of images) await image.close()
  }
}

function vmText(report: {
  readonly out: string
  readonly machine: ReturnType<typeof proposeMachine>['machine']
  readonly reasons: readonly string[]
  readonly obstacles: readonly string[]
  readonly files: readonly { readonly bytes: number }[]
  readonly lost: Parameters<typeof lostWords>[0]
  readonly seconds: number
}): string {
  const { out, machine, reasons, obstacles, files, lost, seconds } = report
  const bytes = files.reduce((sum, file) => sum + file.bytes, 0)
  return [
    `${out}: ${machine.firmware.toUpperCase()}, ${machine.memory.mostBytes / MIB} MiB, ${counted(machine.processors, 'processor')}, ${counted(machine.disks.length, 'disk')}; ${formatSize(bytes)} written, read back and equal, ${seconds.toFixed(1)} s`,
    ...reasons.map((reason) => `  ${reason}`),
    ...obstacles.map((obstacle) => `It will not start as it is. ${obstacle}`),
    ...(lost.length > 0 ? [`${lostWords(lost)}.`] : []),
    '',
  ].join('\n')
}
