'use client'

import { useState } from 'react'
import type { Outcome } from '@/ui/frame/actions'
import { useAct } from '@/ui/frame/act'

/** Sends what a dialog holds: closes it when it was taken, else keeps it open with the sentence. */
export function useSaving(onClose: () => void) {
  const { act, busy } = useAct()
  const [problem, setProblem] = useState<string>()
  const save = async (work: () => Promise<Outcome>) => {
    setProblem(undefined)
    const done = await act(async () => {
      const outcome = await work()
      if (!outcome.ok) setProblem(outcome.sentence)
      return outcome
    })
    if (done) onClose()
  }
  return { save, busy, problem }
}
