// Installs what is missing and does nothing else; --packages and then --native do it in two steps.
import { checkNode, install } from './ground.mjs'

const [step] = process.argv.slice(2)
checkNode()
await install({ only: step?.replace('--', '') })
