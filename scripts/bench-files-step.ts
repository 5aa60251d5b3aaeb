// One step over a disk of very many files, in a process of its own: prints seconds and the most memory it had.
import { SparseFileDevice } from '@/bench/sparse-file'
import { SliceDevice } from '@/core/block/slice'
import { alignDown, MIB } from '@/core/bytes/size'
import { recognise } from '@/core/filesystem'
import { rehearsed } from '@/core/fit/rehearse'
import { solveFit } from '@/core/fit/solve'
import { takeSamples } from '@/core/proof/samples'
import { checkMaps } from '@/core/survey/check-maps'
import { surveyDrive } from '@/core/survey/survey'
import { sha256 } from '@/host/sha256'

const [step, disk] = process.argv.slice(2)
const device = await SparseFileDevice.open(disk, { writable: false })
const survey = await surveyDrive(device, sha256)
const [partition] = survey.partitions
const slice = new SliceDevice(device, partition.startBytes, partition.sizeBytes)
const driver = (await recognise(slice))!
const least = alignDown(partition.volume!.shrunkBytes ?? partition.sizeBytes, 512) + 64 * MIB
const fitOn = (sizeBytes: number) => {
  const result = solveFit(survey, { sizeBytes, logicalSectorSize: 512 })
  if (!result.fits) throw new Error(result.obstacles[0].sentence)
  return result
}

const steps: Record<string, () => Promise<unknown>> = {
  survey: () => surveyDrive(device, sha256),
  'check-map': () => checkMaps(device, survey),
  fit: () => rehearsed(device, fitOn(survey.sizeBytes * 2)),
  shrink: () => driver.resize!(slice, least),
  grow: () => driver.resize!(slice, partition.sizeBytes * 2),
  sample: () => takeSamples(device, fitOn(survey.sizeBytes).layout, [], sha256),
}

const start = performance.now()
await steps[step]()
const seconds = (performance.now() - start) / 1000
console.log(JSON.stringify({ seconds, peakMib: process.resourceUsage().maxRSS / 1024 }))
await device.close()
