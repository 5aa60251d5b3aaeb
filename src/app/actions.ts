'use server'

import { z } from 'zod'
import { switchComputer } from '@/server/world/computers'
import { changePace } from '@/server/stations/copy'
import { lockFit, takeTarget, unlockFit } from '@/server/stations/fit'
import { handOver } from '@/server/stations/handover'
import * as benches from '@/server/world/benches'
import * as things from '@/server/world/things'
import { changeMove, newMove } from '@/server/moves/change'
import { confirmIntake, measureAgain } from '@/server/stations/intake'
import { startTrial } from '@/server/stations/proof'
import { turnOn } from '@/server/stations/proof/after'
import { goBack } from '@/server/stations/proof/way-back'
import { makeRepair, takeRepairBack } from '@/server/stations/proof/repairs'
import { readyAction } from '@/server/stations/ready'
import { type Answer, answer } from '@/server/ground/answer'
import { takeRoute } from '@/server/stations/route'
import type { StartedJob } from '@/server/jobs'
import { changeAnyInTurn, changeMoveInTurn } from '@/server/moves/jobs'
import { giveUpMove, putOffMove, renameMove, takeUpMove } from '@/server/moves/standing'
import { confirmSurvey, readDrives } from '@/server/stations/survey'
import { eraseDrive, putBack } from '@/server/pages/shelf'
import { finishStep, tickScrews, untickStep } from '@/server/stations/swap'

// What the forms of the stations say. Each service checks its input; what it refuses comes back as a sentence.

type Done = Answer<{ job: string } | undefined>

const Id = z.string().max(60)

export async function confirmIntakeAction(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => confirmIntake(id))
}

export async function newMoveAction(brief: unknown): Promise<Answer<string>> {
  return answer(() => newMove(brief))
}

export async function changeMoveAction(moveId: unknown, brief: unknown): Promise<Done> {
  return changed(moveId, (id) => changeMove(id, brief))
}

export async function measureAgainAction(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => measureAgain(id))
}

export async function newBenchAction(name: unknown): Promise<Answer<string>> {
  return answer(() => benches.newBench(name))
}

export async function showBenchAction(id: unknown): Promise<Done> {
  return done(() => benches.showBench(id))
}

export async function renameBenchAction(name: unknown): Promise<Done> {
  return done(() => benches.renameBench(name))
}

export async function removeBenchAction(typedName: unknown): Promise<Done> {
  return done(() => benches.removeBench(typedName))
}

export async function saveComputerAction(computer: unknown): Promise<Answer<string>> {
  return answer(() => things.saveComputer(computer))
}

export async function saveAccessoryAction(accessory: unknown): Promise<Answer<string>> {
  return answer(() => things.saveAccessory(accessory))
}

export async function addDriveAction(drive: unknown): Promise<Answer<string>> {
  return answer(() => things.addDrive(drive))
}

export async function changeDriveAction(drive: unknown): Promise<Done> {
  return done(() => things.changeDrive(drive))
}

export async function removeThingAction(thing: unknown): Promise<Done> {
  return done(() => things.removeThing(thing))
}

export async function setPowerAction(power: unknown): Promise<Done> {
  return done(() => things.setPower(power))
}

export async function readDrivesAction(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => readDrives(id))
}

export async function confirmSurveyAction(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => confirmSurvey(id))
}

export async function takeRouteAction(moveId: unknown, plan: unknown): Promise<Done> {
  return changed(moveId, (id) => takeRoute(id, { plan }))
}

export async function lockFitAction(moveId: unknown, fit: unknown): Promise<Done> {
  return changed(moveId, (id) => lockFit(id, fit))
}

export async function takeTargetAction(moveId: unknown, target: unknown): Promise<Done> {
  return changed(moveId, (id) => takeTarget(id, target))
}

export async function unlockFitAction(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => unlockFit(id))
}

export async function readyActionAction(moveId: unknown, input: unknown): Promise<Done> {
  return changed(moveId, (id) => readyAction(id, input))
}

export async function finishStepAction(moveId: unknown, step: unknown): Promise<Done> {
  return changed(moveId, (id) => finishStep(id, { step }))
}

export async function untickStepAction(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => untickStep(id))
}

export async function tickScrewsAction(moveId: unknown, tick: unknown): Promise<Done> {
  return changed(moveId, (id) => tickScrews(id, tick))
}

export async function makeRepairAction(moveId: unknown, name: unknown): Promise<Done> {
  return changed(moveId, (id) => makeRepair(id, Id.parse(name)))
}

export async function takeRepairBackAction(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => takeRepairBack(id))
}

export async function startTrialAction(moveId: unknown, choice?: unknown): Promise<Done> {
  return changed(moveId, (id) => startTrial(id, Id.optional().parse(choice)))
}

export async function turnOnAction(moveId: unknown, what?: unknown): Promise<Done> {
  return changed(moveId, (id) => turnOn(id, z.string().max(200).optional().parse(what)))
}

export async function goBackAction(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => goBack(id))
}

export async function switchComputerAction(computerId: unknown, input: unknown): Promise<Done> {
  return done(async () => switchComputer(z.string().max(80).parse(computerId), input))
}

export async function handOverAction(moveId: unknown, input?: unknown): Promise<Done> {
  return changed(moveId, (id) => handOver(id, input))
}

export async function putBackAction(input: unknown): Promise<Done> {
  return done(() => putBack(input))
}

export async function eraseDriveAction(input: unknown): Promise<Done> {
  return done(() => eraseDrive(input))
}

export async function setPaceAction(value: unknown): Promise<Done> {
  return done(async () => changePace(z.enum(['1', '30', 'max']).parse(value)))
}

export async function renameMoveAction(moveId: unknown, names: unknown): Promise<Done> {
  return aside(moveId, (id) => renameMove(id, names))
}

export async function putOffMoveAction(moveId: unknown, input: unknown): Promise<Done> {
  return aside(moveId, (id) => putOffMove(id, input))
}

export async function takeUpMoveAction(moveId: unknown): Promise<Done> {
  return aside(moveId, (id) => takeUpMove(id))
}

export async function giveUpMoveAction(moveId: unknown, input: unknown): Promise<Done> {
  return aside(moveId, (id) => giveUpMove(id, input))
}

/** A change of a move that may have been laid aside. */
async function aside(moveId: unknown, change: (moveId: string) => Promise<void>): Promise<Done> {
  return done(async () => {
    const id = Id.parse(moveId)
    await changeAnyInTurn(id, () => change(id))
  })
}

/** A change of a move, in its turn. */
async function changed(moveId: unknown, change: (moveId: string) => Promise<StartedJob | void>): Promise<Done> {
  return done(async () => {
    const id = Id.parse(moveId)
    return changeMoveInTurn(id, () => change(id))
  })
}

/** What takes longer than a moment goes on as a job, whose end the page waits for. */
async function done(work: () => Promise<StartedJob | void>): Promise<Done> {
  return answer(async () => {
    const started = await work()
    return started ? { job: started.id } : undefined
  })
}
