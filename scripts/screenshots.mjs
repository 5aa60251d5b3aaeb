// npm run screenshots: takes one picture of each main view, made from the demo bench, into docs/screenshots.
import { bin, build, checkNode, install, run } from './ground.mjs'

checkNode()
await install()
await build()
run(bin('tsx'), ['scripts/take-screenshots.ts'])
