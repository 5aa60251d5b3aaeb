import * as z from 'zod'
import type { DriveSurvey } from '@/core/survey/types'
import { imagesFolder } from '../ground/paths'
import { imagePath } from '../images/names'
import { runTask } from '../jobs/threads'
import type { Subject } from '../jobs/threads/tasks/subject'
import { driveById, driveSubject } from '.'

/** What is looked at: a drive of the bench, or an image. */
export const LookedAtSchema = z.object({ kind: z.enum(['drives', 'images']), id: z.string().min(1).max(180) })
export type LookedAt = z.infer<typeof LookedAtSchema>

/** As a thread of its own opens it. Throws Refusal where there is none. */
export async function subjectOf({ kind, id }: LookedAt): Promise<Subject> {
  if (kind === 'images') return { kind: 'image', file: await imagePath(id), within: imagesFolder() }
  return driveSubject(await driveById(id))
}

/** The survey of it, what its image format tells first. */
export async function surveyOf(lookedAt: LookedAt): Promise<DriveSurvey> {
  return runTask('surveySubject', await subjectOf(lookedAt))
}
