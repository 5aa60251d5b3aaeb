'use server'

import { z } from 'zod'
import { changePace } from '@/server/copy'
import { lockFit, unlockFit } from '@/server/fit'
import { handOver } from '@/server/handover'
import { confirmIntake } from '@/server/intake'
import { startTrial } from '@/server/proof'
import { readyAction } from '@/server/ready'
import { type Answer, answer } from '@/server/refusal'
import { takeRoute } from '@/server/route'
import { confirmSurvey, readDrives } from '@/server/survey'
import { finishStep } from '@/server/swap'

// What the forms of the stations say. Each service checks its input; what it refuses comes back as a sentence.

const Id = z.string().max(60)

export async function confirmIntakeAction(moveId: unknown): Promise<Answer> {
  return done(async () => confirmIntake(Id.parse(moveId)))
}

export async function readDrivesAction(moveId: unknown): Promise<Answer> {
  return done(async () => readDrives(Id.parse(moveId)))
}

export async function confirmSurveyAction(moveId: unknown): Promise<Answer> {
  return done(async () => confirmSurvey(Id.parse(moveId)))
}

export async function takeRouteAction(moveId: unknown): Promise<Answer> {
  return done(async () => takeRoute(Id.parse(moveId)))
}

export async function lockFitAction(moveId: unknown, wish: unknown): Promise<Answer> {
  return done(async () => lockFit(Id.parse(moveId), { wish }))
}

export async function unlockFitAction(moveId: unknown): Promise<Answer> {
  return done(async () => unlockFit(Id.parse(moveId)))
}

export async function readyActionAction(moveId: unknown, input: unknown): Promise<Answer> {
  return done(async () => readyAction(Id.parse(moveId), input))
}

export async function finishStepAction(moveId: unknown, step: unknown): Promise<Answer> {
  return done(async () => finishStep(Id.parse(moveId), { step }))
}

export async function startTrialAction(moveId: unknown): Promise<Answer> {
  return done(async () => startTrial(Id.parse(moveId)))
}

export async function handOverAction(moveId: unknown): Promise<Answer> {
  return done(async () => handOver(Id.parse(moveId)))
}

export async function setPaceAction(value: unknown): Promise<Answer> {
  return done(async () => changePace(z.enum(['1', '30', 'max']).parse(value)))
}

async function done(work: () => Promise<void>): Promise<Answer> {
  return answer(async () => {
    await work()
    return undefined
  })
}
