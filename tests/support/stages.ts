import path from 'node:path'
import { bundleFile } from './bundle-worker'
import { execute } from './demo-bench'

/** How far a move can be brought without pages: its drives read, a route taken, a fit locked, its list settled. */
export type Reached = 'surveyed' | 'routed' | 'fitted' | 'settled'

/** Brings moves of a bench, by their ids, as far as is said, before a server has its folder. */
export function bringMoves(data: string, moves: Readonly<Record<string, Reached>>): void {
  const threads = ['src/server/jobs/threads/tasks.worker.ts', 'src/server/copying/copy.worker.ts']
  const program = [...threads, 'tests/support/moved-on.ts'].map((file) => bundleFile(path.resolve(file))).at(-1)!
  const env = { IMBARCO_DATA: data, IMBARCO_LOG: 'silent' }
  execute(process.execPath, [program, ...Object.entries(moves).flat()], env)
}
