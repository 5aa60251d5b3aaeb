// npm run dev: like the demo, but rebuilt at every change.
import { bin, checkNode, checkPort, install, makeBench, run } from './ground.mjs'

checkNode()
await checkPort(4310)
install()
makeBench()
run(bin('next'), ['dev', '-H', '127.0.0.1', '-p', '4310'], { env: { ...process.env, NEXT_TELEMETRY_DISABLED: '1' } })
