'use client'

import { useEffect, useState } from 'react'

/** What a route of this server answers to a question, or its sentence; nothing for a question of null. */
export function useAnswer<T>(path: string | null): { readonly value?: T; readonly sentence?: string } {
  const [answer, setAnswer] = useState<{ path: string; value?: T; sentence?: string }>()
  useEffect(() => {
    if (path === null) return
    let left = false
    void (async () => {
      const got = await ask<T>(path)
      if (!left) setAnswer({ path, ...got })
    })()
    return () => {
      left = true
    }
  }, [path])
  return answer && path !== null ? answer : {}
}

async function ask<T>(path: string): Promise<{ value?: T; sentence?: string }> {
  try {
    const answer = (await (await fetch(path)).json()) as { ok: boolean; value: T; sentence: string }
    return answer.ok ? { value: answer.value } : { sentence: answer.sentence }
  } catch {
    return { sentence: 'The server could not be reached.' }
  }
}
