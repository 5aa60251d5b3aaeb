import { spawn } from 'node:child_process'
import { once } from 'node:events'
import { fileURLToPath } from 'node:url'

const PRELOADED = fileURLToPath(new URL('ends-itself.mjs', import.meta.url))

/**
 * Runs the command until a line that it tells on standard error is like `when`, and ends it in that instant. Gives the
 * signal that ended it, null where it came to its end before.
 */
export async function untilPowerCut(args: readonly string[], when: RegExp): Promise<NodeJS.Signals | null> {
  const options = [process.env.NODE_OPTIONS, `--import=${PRELOADED}`].filter(Boolean).join(' ')
  const env = { ...process.env, NODE_OPTIONS: options, POWER_CUT_WHEN: when.source }
  const [, signal] = await once(spawn('bin/imbarco', args, { stdio: 'ignore', env }), 'exit')
  return signal as NodeJS.Signals | null
}
