import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { sha256 } from '@/host/sha256'
import { type Subject, withSubject } from './subject'

/** What is on a drive or in an image, what its image format tells first. */
export function surveySubject(subject: Subject): Promise<DriveSurvey> {
  return withSubject(subject, async (device, { findings }) => {
    const survey = await surveyDrive(device, sha256)
    return findings.length > 0 ? { ...survey, findings: [...findings, ...survey.findings] } : survey
  })
}
