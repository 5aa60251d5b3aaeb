import type * as sequelize from 'sequelize'
import { vi } from 'vitest'

// Every query takes a trace of who asked for it, for the case that it fails. In tests that takes longer than the query,
// since each line of a trace is looked up in the sources.

interface Runs {
  run(...of: unknown[]): Promise<unknown>
}

vi.mock('sequelize', async (original) => {
  const real = await original<typeof sequelize>()
  // What all of them share is reached by the first.
  real.Sequelize.afterInit('without traces', (made) => {
    real.Sequelize.removeHook('afterInit', 'without traces')
    const queries = (made as unknown as { dialect: { Query: { prototype: Runs } } }).dialect.Query.prototype
    const { run } = queries
    queries.run = function (this: Runs, ...of) {
      const limit = Error.stackTraceLimit
      Error.stackTraceLimit = 0
      try {
        return run.apply(this, of)
      } finally {
        Error.stackTraceLimit = limit
      }
    }
  })
  return real
})
