'use client'

import { useCallback, useReducer } from 'react'

interface History<T> {
  readonly past: readonly T[]
  readonly now: T
  readonly future: readonly T[]
  /** Changes with the same name follow each other as one, such as those of one drag. */
  readonly stroke?: string
}

type Step<T> = { do: 'set'; value: T; stroke?: string } | { do: 'undo' } | { do: 'redo' }

const LONGEST = 200

function step<T>(history: History<T>, action: Step<T>): History<T> {
  const { past, now, future, stroke } = history
  if (action.do === 'set') {
    const goesOn = action.stroke !== undefined && action.stroke === stroke
    return {
      past: goesOn ? past : [...past, now].slice(-LONGEST),
      now: action.value,
      future: [],
      stroke: action.stroke,
    }
  }
  if (action.do === 'undo') {
    if (past.length === 0) return history
    return { past: past.slice(0, -1), now: past.at(-1)!, future: [now, ...future] }
  }
  if (future.length === 0) return history
  return { past: [...past, now], now: future[0], future: future.slice(1) }
}

/** A value with its earlier and undone states. */
export function useHistory<T>(first: () => T) {
  const [history, act] = useReducer(step<T>, undefined, () => ({ past: [], now: first(), future: [] }) as History<T>)
  return {
    now: history.now,
    set: useCallback((value: T, stroke?: string) => act({ do: 'set', value, stroke }), []),
    undo: useCallback(() => act({ do: 'undo' }), []),
    redo: useCallback(() => act({ do: 'redo' }), []),
    canUndo: history.past.length > 0,
    canRedo: history.future.length > 0,
  }
}
