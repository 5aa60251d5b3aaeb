// npm run passphrase: installs what is missing and sets the passphrase of the data folder.
import { bin, checkNode, install, run } from './ground.mjs'

checkNode()
await install()
run(bin('tsx'), ['scripts/set-passphrase.ts', ...process.argv.slice(2)])
