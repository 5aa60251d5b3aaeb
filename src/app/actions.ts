'use server'

import * as z from 'zod'
import * as computers from '@/server/world/computers'
import * as emulated from '@/server/pages/emulated'
import * as copy from '@/server/stations/copy'
import * as fit from '@/server/stations/fit'
import * as room from '@/server/stations/fit/room'
import * as handover from '@/server/stations/handover'
import * as benches from '@/server/world/benches'
import * as things from '@/server/world/things'
import * as moves from '@/server/moves/change'
import * as intake from '@/server/stations/intake'
import * as fromDisk from '@/server/stations/intake/from-disk'
import * as proof from '@/server/stations/proof'
import * as after from '@/server/stations/proof/after'
import * as firstStart from '@/server/stations/proof/first-start'
import * as wayBack from '@/server/stations/proof/way-back'
import * as repairs from '@/server/stations/proof/repairs'
import * as ready from '@/server/stations/ready'
import { type Answer, answer } from '@/server/ground/answer'
import * as route from '@/server/stations/route'
import type { StartedJob } from '@/server/jobs'
import { changeAnyInTurn, changeMoveInTurn } from '@/server/moves/jobs'
import * as standing from '@/server/moves/standing'
import * as survey from '@/server/stations/survey'
import * as lent from '@/server/pages/lent'
import * as borrowing from '@/server/pages/lent/borrow'
import * as series from '@/server/pages/series'
import * as shelf from '@/server/pages/shelf'
import * as start from '@/server/pages/start'
import * as swap from '@/server/stations/swap'

// What the forms of the stations say. Each service checks its input; what it refuses comes back as a sentence.

type Done = Answer<{ job: string } | undefined>

const Id = z.string().max(60)

export async function takeFirstStartStep(moveId: unknown, input: unknown): Promise<Done> {
  return changed(moveId, (id) => firstStart.takeFirstStartStep(id, input))
}

export async function confirmIntake(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => intake.confirmIntake(id))
}

export async function newMove(brief: unknown): Promise<Answer<string>> {
  return answer(() => moves.newMove(brief))
}

export async function moveSystem(input: unknown): Promise<Answer<string>> {
  return answer(() => fromDisk.moveSystem(input))
}

export async function newSeries(input: unknown): Promise<Answer<string>> {
  return answer(() => series.newSeries(input))
}

export async function lend(input: unknown): Promise<Answer<string>> {
  return answer(() => lent.lend(input))
}

export async function borrow(input: unknown): Promise<Answer<string>> {
  return answer(() => borrowing.borrow(input))
}

export async function askAgain(input: unknown): Promise<Done> {
  return done(() => borrowing.askAgain(input))
}

export async function giveBack(input: unknown): Promise<Done> {
  return done(() => borrowing.giveBack(input))
}

export async function endBorrowing(input: unknown): Promise<Done> {
  return done(() => borrowing.endBorrowing(input))
}

export async function answerBorrower(input: unknown): Promise<Done> {
  return done(() => lent.answerBorrower(input))
}

export async function takeLoanBack(input: unknown): Promise<Done> {
  return done(() => lent.takeLoanBack(input))
}

export async function endLending(input: unknown): Promise<Done> {
  return done(() => lent.endLending(input))
}

export async function prepareAgain(member: unknown): Promise<Done> {
  return done(() => series.prepareAgain(member))
}

export async function writeTogether(members: unknown): Promise<Done> {
  return done(() => series.writeTogether(members))
}

export async function setAside(member: unknown): Promise<Done> {
  return done(() => series.setAside(member))
}

export async function changeMove(moveId: unknown, brief: unknown): Promise<Done> {
  return changed(moveId, (id) => moves.changeMove(id, brief))
}

export async function measureAgain(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => intake.measureAgain(id))
}

export async function newBench(name: unknown): Promise<Answer<string>> {
  return answer(() => benches.newBench(name))
}

export async function showBench(id: unknown): Promise<Done> {
  return done(() => benches.showBench(id))
}

export async function renameBench(name: unknown): Promise<Done> {
  return done(() => benches.renameBench(name))
}

export async function removeBench(typedName: unknown): Promise<Done> {
  return done(() => benches.removeBench(typedName))
}

export async function saveComputer(computer: unknown): Promise<Answer<string>> {
  return answer(() => things.saveComputer(computer))
}

export async function saveAccessory(accessory: unknown): Promise<Answer<string>> {
  return answer(() => things.saveAccessory(accessory))
}

export async function addDrive(drive: unknown): Promise<Answer<string>> {
  return answer(() => things.addDrive(drive))
}

export async function changeDrive(drive: unknown): Promise<Done> {
  return done(() => things.changeDrive(drive))
}

export async function removeThing(thing: unknown): Promise<Done> {
  return done(() => things.removeThing(thing))
}

export async function setPower(power: unknown): Promise<Done> {
  return done(() => things.setPower(power))
}

export async function readDrives(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => survey.readDrives(id))
}

export async function confirmSurvey(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => survey.confirmSurvey(id))
}

export async function takeRoute(moveId: unknown, plan: unknown): Promise<Done> {
  return changed(moveId, (id) => route.takeRoute(id, { plan }))
}

export async function lockFit(moveId: unknown, input: unknown): Promise<Done> {
  return changed(moveId, (id) => fit.lockFit(id, input))
}

export async function takeTarget(moveId: unknown, target: unknown): Promise<Done> {
  return changed(moveId, (id) => fit.takeTarget(id, target))
}

export async function unlockFit(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => fit.unlockFit(id))
}

export async function makeRoom(moveId: unknown, input: unknown): Promise<Done> {
  return changed(moveId, (id) => room.makeRoom(id, input))
}

export async function giveRoomBack(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => room.giveRoomBack(id))
}

export async function settle(moveId: unknown, input: unknown): Promise<Done> {
  return changed(moveId, (id) => ready.readyAction(id, input))
}

export async function finishStep(moveId: unknown, step: unknown): Promise<Done> {
  return changed(moveId, (id) => swap.finishStep(id, { step }))
}

export async function untickStep(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => swap.untickStep(id))
}

export async function tickScrews(moveId: unknown, tick: unknown): Promise<Done> {
  return changed(moveId, (id) => swap.tickScrews(id, tick))
}

export async function makeRepair(moveId: unknown, name: unknown): Promise<Done> {
  return changed(moveId, (id) => repairs.makeRepair(id, Id.parse(name)))
}

export async function takeRepairBack(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => repairs.takeRepairBack(id))
}

export async function repairSubject(input: unknown): Promise<Done> {
  return done(() => start.repairSubject(input))
}

export async function undoSubjectRepair(input: unknown): Promise<Done> {
  return done(() => start.undoSubjectRepair(input))
}

export async function startTrial(moveId: unknown, choice?: unknown): Promise<Done> {
  return changed(moveId, (id) => proof.startTrial(id, Id.optional().parse(choice)))
}

export async function startEmulated(input: unknown): Promise<Done> {
  // It goes on after this; nobody waits for its end.
  return done(async () => void (await emulated.startEmulated(input)))
}

export async function tellEmulated(input: unknown): Promise<Done> {
  return done(() => emulated.tellEmulated(input))
}

export async function tellStart(moveId: unknown, told: unknown): Promise<Done> {
  return changed(moveId, (id) => proof.tellStart(id, told))
}

export async function turnOn(moveId: unknown, what?: unknown): Promise<Done> {
  return changed(moveId, (id) => after.turnOn(id, z.string().max(200).optional().parse(what)))
}

export async function goBack(moveId: unknown): Promise<Done> {
  return changed(moveId, (id) => wayBack.goBack(id))
}

export async function switchComputer(computerId: unknown, input: unknown): Promise<Done> {
  return done(async () => computers.switchComputer(z.string().max(80).parse(computerId), input))
}

export async function handOver(moveId: unknown, input?: unknown): Promise<Done> {
  return changed(moveId, (id) => handover.handOver(id, input))
}

export async function putBack(input: unknown): Promise<Done> {
  return done(() => shelf.putBack(input))
}

export async function eraseDrive(input: unknown): Promise<Done> {
  return done(() => shelf.eraseDrive(input))
}

export async function setPace(value: unknown): Promise<Done> {
  return done(async () => copy.changePace(z.enum(['1', '30', 'max']).parse(value)))
}

export async function renameMove(moveId: unknown, names: unknown): Promise<Done> {
  return aside(moveId, (id) => standing.renameMove(id, names))
}

export async function putOffMove(moveId: unknown, input: unknown): Promise<Done> {
  return aside(moveId, (id) => standing.putOffMove(id, input))
}

export async function takeUpMove(moveId: unknown): Promise<Done> {
  return aside(moveId, (id) => standing.takeUpMove(id))
}

export async function giveUpMove(moveId: unknown, input: unknown): Promise<Done> {
  return aside(moveId, (id) => standing.giveUpMove(id, input))
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
