import type { BlockDevice } from '../block/device'
import { SliceDevice } from '../block/slice'
import { orUndefined } from '../errors'
import { openFileSystem } from '../filesystem'
import { checkMap, mapMissesWords } from '../filesystem/map-check'
import { copiedByMap } from './copied-by-map'
import type { DriveSurvey, PartitionSurvey } from './types'

/**
 * A survey with what holding each volume's map of used blocks against its files came to: a finding where a map misses
 * some, and for every volume whether it was looked at. Reads all records of all volumes; nothing is written.
 * `onLooked` is told the partition, and how many of its files and structures were looked at so far.
 */
export async function checkMaps(
  device: BlockDevice,
  survey: DriveSurvey,
  onLooked?: (partition: PartitionSurvey, count: number) => void,
): Promise<DriveSurvey> {
  const partitions: DriveSurvey['partitions'] = []
  for (const partition of survey.partitions) {
    const { volume, startBytes, sizeBytes } = partition
    if (!volume || !copiedByMap(partition)) {
      partitions.push(partition)
      continue
    }
    const slice = new SliceDevice(device, startBytes, sizeBytes)
    const check = await openFileSystem(slice)
      .then((opened) => opened && checkMap(opened, (count) => onLooked?.(partition, count)))
      .catch(orUndefined)
    const sentence = check && mapMissesWords(check)
    const finding = sentence && {
      severity: 'damage' as const,
      code: 'volume.map-misses',
      sentence,
      evidence: `${check.missing.length} stretches, first at byte ${check.missing[0].offset} of the volume`,
    }
    partitions.push({
      ...partition,
      volume: { ...volume, map: !check ? 'unchecked' : finding ? 'missed' : 'checked' },
      findings: finding ? [...partition.findings, finding] : partition.findings,
    })
  }
  return { ...survey, partitions }
}
