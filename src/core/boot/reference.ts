import type { DriveSurvey } from '../survey/types'
import type { TraceReference } from './types'

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
