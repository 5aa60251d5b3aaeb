import type { DriveSurvey } from '../survey/types'
import type { TraceReference } from './types'

/**
 * What the start of a system compares with that came into a drive with others: its own files as the source had them, and
 * loaders as that drive had them. `guid`: of the partition it is in now.
 */
export function referenceInto(
  source: DriveSurvey,
  target: DriveSurvey,
  { volume, guid }: { readonly volume: number; readonly guid: string },
): TraceReference | undefined {
  const moved = referenceFrom({ ...source, partitions: source.partitions.filter((p) => p.number === volume) })
  if (!moved) return undefined
  return {
    ...moved,
    systemPartitionGuid: guid,
    loaders: target.loaders,
    ownLoaders: true,
    startCodeDigest: target.mbr?.startCode?.digest,
  }
}

/** What a trace compares with, taken from the survey of the source; undefined when no system was found on it. */
export function referenceFrom(survey: DriveSurvey): TraceReference | undefined {
  const partition = survey.partitions.find((p) => p.system)
  if (!partition?.system) return undefined
  return {
    systemPartitionGuid: partition.guid,
    systemLoaderPath: partition.system.loaderPath,
    systemLoaderDigest: partition.system.loaderDigest,
    loaders: survey.loaders,
    startCodeDigest: survey.mbr?.startCode?.digest,
  }
}
