import { bundleWithThreads } from './bundle-worker'
import { execute } from './demo-bench'

/** How far a move can be brought without pages: its drives read, a route taken, a fit locked, its list settled. */
export type Reached = 'surveyed' | 'routed' | 'fitted' | 'settled'

/** Brings moves of a bench, by their ids, as far as is said, before a server has its folder. */
export function bringMoves(data: string, moves: Readonly<Record<string, Reached>>): void {
  const program = bundleWithThreads('tests/support/moved-on.ts')
  const env = { IMBARCO_DATA: data, IMBARCO_LOG: 'silent' }
  execute(process.execPath, [program, ...Object.entries(moves).flat()], env)
}
