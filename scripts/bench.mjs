// npm run bench: a copy beside a plain tool on the same files, page times and the solver, measured in one run.
import { build, checkNode, install, run } from './ground.mjs'

checkNode()
await install()
await build()
run(process.execPath, ['--expose-gc', '--import', 'tsx', 'scripts/run-bench.ts', ...process.argv.slice(2)])
