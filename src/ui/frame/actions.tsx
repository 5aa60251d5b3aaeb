'use client'

import { createContext, type ReactNode, useContext } from 'react'
import * as z from 'zod'
import type { FitWish } from '@/core/fit/types'

// Pages may not make code from text, which is how it is quicker elsewhere.
z.config({ jitless: true })

/** What came of something that was asked of the server: done, begun as a job, or a sentence that says why not. */
export type Outcome = { ok: true; value?: unknown } | { ok: false; sentence: string; code?: string }

/** What the Bench page can ask for. */
interface BenchActions {
  newBench(name: string): Promise<Outcome>
  showBench(id: string): Promise<Outcome>
  renameBench(name: string): Promise<Outcome>
  removeBench(typedName: string): Promise<Outcome>
  saveComputer(computer: unknown): Promise<Outcome>
  saveAccessory(accessory: unknown): Promise<Outcome>
  addDrive(drive: unknown): Promise<Outcome>
  changeDrive(drive: unknown): Promise<Outcome>
  removeThing(thing: { kind: string; id: string }): Promise<Outcome>
  setPower(power: { computerId: string; mains: boolean }): Promise<Outcome>
}

/** What the pages can ask for. The application hands in how it is done. */
export interface Actions extends BenchActions {
  newMove(brief: unknown): Promise<{ ok: true; value?: string } | { ok: false; sentence: string }>
  /** A move of a disk's system, with the computer, the new drive and what else the bench does not have yet. */
  moveSystem(system: unknown): Promise<{ ok: true; value?: string } | { ok: false; sentence: string }>
  /** A series of moves from one source, one for each computer. */
  newSeries(series: unknown): Promise<{ ok: true; value?: string } | { ok: false; sentence: string }>
  /** Computers of a series: one that could not be prepared, and one whose copy failed. */
  prepareAgain(member: { series: string; move: string }): Promise<Outcome>
  lend(what: {
    subject: { kind: 'drives' | 'images'; id: string }
    address: string
    writable: boolean
    plate: string
    partition: number | null
    once: boolean
  }): Promise<{ ok: true; value?: string } | { ok: false; sentence: string }>
  borrow(what: { address: string; code: string; bench: string; link: string }): Promise<Outcome>
  askAgain(of: { driveId: string }): Promise<Outcome>
  giveBack(of: { driveId: string }): Promise<Outcome>
  endBorrowing(of: { id: string }): Promise<Outcome>
  answerBorrower(of: { lent: string; peer: string; yes: boolean }): Promise<Outcome>
  takeLoanBack(of: { lent: string; peer: string }): Promise<Outcome>
  endLending(of: { lent: string }): Promise<Outcome>
  writeTogether(of: {
    series: string
    members: readonly { move: string; plate: string; seen: string }[]
  }): Promise<Outcome>
  setAside(member: { series: string; move: string }): Promise<Outcome>
  changeMove(moveId: string, brief: unknown): Promise<Outcome>
  renameMove(moveId: string, names: { name: string; customer: string }): Promise<Outcome>
  putOffMove(moveId: string, input: { why: string }): Promise<Outcome>
  takeUpMove(moveId: string): Promise<Outcome>
  giveUpMove(moveId: string, input: { why: string }): Promise<Outcome>
  confirmIntake(moveId: string): Promise<Outcome>
  measureAgain(moveId: string): Promise<Outcome>
  readDrives(moveId: string): Promise<Outcome>
  confirmSurvey(moveId: string): Promise<Outcome>
  takeRoute(moveId: string, plan: string): Promise<Outcome>
  lockFit(moveId: string, fit: { wish: FitWish; pair: number; virtualBytes?: number }): Promise<Outcome>
  takeTarget(moveId: string, target: { pair: number; driveId: string }): Promise<Outcome>
  unlockFit(moveId: string): Promise<Outcome>
  makeRoom(moveId: string, room: { neighbour: number; plate: string }): Promise<Outcome>
  giveRoomBack(moveId: string): Promise<Outcome>
  settle(moveId: string, request: { action: string } & Record<string, unknown>): Promise<Outcome>
  finishStep(moveId: string, step: string): Promise<Outcome>
  untickStep(moveId: string): Promise<Outcome>
  tickScrews(moveId: string, tick: { step: string; group: number; count: number }): Promise<Outcome>
  /** `choice`: a line of the boot menu, for this once. */
  startTrial(moveId: string, choice?: string): Promise<Outcome>
  /** Starts a drive or an image in an emulated computer. */
  startEmulated(input: Record<string, unknown>): Promise<Outcome>
  tellEmulated(input: Record<string, unknown>): Promise<Outcome>
  /** What a real computer was seen to do. */
  tellStart(moveId: string, told: { starts: boolean }): Promise<Outcome>
  turnOn(moveId: string, what?: string): Promise<Outcome>
  /** A step of a virtual machine's first start. */
  takeFirstStartStep(moveId: string, step: { step: string } & Record<string, unknown>): Promise<Outcome>
  goBack(moveId: string): Promise<Outcome>
  switchComputer(computerId: string, input: unknown): Promise<Outcome>
  makeRepair(moveId: string, name: string): Promise<Outcome>
  takeRepairBack(moveId: string): Promise<Outcome>
  /** Repairs of a drive or an image outside of a move. */
  repairSubject(repair: unknown): Promise<Outcome>
  undoSubjectRepair(of: unknown): Promise<Outcome>
  /** `day` as `2026-05-04` and `shop` are what the sheet says. */
  handOver(moveId: string, input?: { by: string; day?: string; shop?: string }): Promise<Outcome>
  putBack(input: unknown): Promise<Outcome>
  eraseDrive(input: unknown): Promise<Outcome>
  setPace(pace: string): Promise<Outcome>
}

const ActionsContext = createContext<Actions | null>(null)

export function ActionsProvider({ actions, children }: { actions: Actions; children: ReactNode }) {
  return <ActionsContext.Provider value={actions}>{children}</ActionsContext.Provider>
}

export function useActions(): Actions {
  const actions = useContext(ActionsContext)
  if (!actions) throw new Error('ActionsProvider is missing.')
  return actions
}
