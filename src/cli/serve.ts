import { spawn } from 'node:child_process'
import { existsSync, realpathSync } from 'node:fs'
import path from 'node:path'
import { CoreError } from '@/core/errors'

export interface ServeOptions {
  readonly devices?: boolean
  readonly loops?: boolean
  readonly port?: string
}

/** Serves the pages, as `npm start` does: of the data folder's bench, or of the drives of this computer. */
export function serve({ devices, loops, port }: ServeOptions): Promise<number> {
  const script = path.join(path.dirname(realpathSync(process.argv[1])), '..', 'scripts', 'start.mjs')
  if (!existsSync(script)) throw new CoreError('The pages are not beside this command, so they cannot be served.')
  const words = [...(devices ? ['--devices'] : []), ...(loops ? ['--loops'] : []), ...(port ? ['--port', port] : [])]
  const server = spawn(process.execPath, [script, ...words], { stdio: 'inherit' })
  // Whoever ends the command ends the server, which is told by the terminal or from here.
  for (const signal of ['SIGINT', 'SIGTERM'] as const) process.on(signal, () => server.kill(signal))
  return new Promise((resolve) => server.once('exit', (code) => resolve(code ?? 0)))
}
