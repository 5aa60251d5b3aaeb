import type { TestProject } from 'vitest/node'
import { serve } from './serve'

declare module 'vitest' {
  interface ProvidedContext {
    url: string
    data: string
  }
}

/** One server with a fresh bench for the browser tests that do not need one of their own. */
export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  const served = await serve()
  project.provide('url', served.url)
  project.provide('data', served.data)
  return () => served.close()
}
