'use client'

import { createContext, type ReactNode, useContext } from 'react'

const NoticeContext = createContext<ReactNode>(null)

/** Something that the page of every station has to say first. */
export function NoticeProvider({ notice, children }: { notice: ReactNode; children: ReactNode }) {
  return <NoticeContext.Provider value={notice}>{children}</NoticeContext.Provider>
}

/** Where a station says it: under its finding, before its work. */
export function Notice() {
  return useContext(NoticeContext)
}
