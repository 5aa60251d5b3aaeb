// Installs what is missing and does nothing else.
import { checkNode, install } from './ground.mjs'

checkNode()
await install()
