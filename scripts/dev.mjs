// npm run dev: like the demo, but rebuilt at every change.
import path from 'node:path'
import { bin, checkNode, checkPort, install, makeBench, ROOT, run } from './ground.mjs'

checkNode()
await checkPort(4310, '127.0.0.1', path.resolve(ROOT, process.env.IMBARCO_DATA ?? 'data'))
await install()
makeBench()
run(bin('next'), ['dev', '-H', '127.0.0.1', '-p', '4310'], {
  env: { ...process.env, IMBARCO_ADDRESS: 'http://127.0.0.1:4310', NEXT_TELEMETRY_DISABLED: '1' },
})
