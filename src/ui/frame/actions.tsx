'use client'

import { createContext, type ReactNode, useContext } from 'react'
import type { FitWish } from '@/core/fit/types'

/** What came of something that was asked of the server: done, or a sentence that says why not. */
export type Outcome = { ok: true } | { ok: false; sentence: string }

/** What the pages can ask for. The application hands in how it is done. */
export interface Actions {
  confirmIntake(moveId: string): Promise<Outcome>
  readDrives(moveId: string): Promise<Outcome>
  confirmSurvey(moveId: string): Promise<Outcome>
  takeRoute(moveId: string): Promise<Outcome>
  lockFit(moveId: string, wish: FitWish): Promise<Outcome>
  unlockFit(moveId: string): Promise<Outcome>
  settle(moveId: string, request: { action: string; whenDone?: 'stay' | 'power-off' }): Promise<Outcome>
  finishStep(moveId: string, step: string): Promise<Outcome>
  startTrial(moveId: string): Promise<Outcome>
  handOver(moveId: string): Promise<Outcome>
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
