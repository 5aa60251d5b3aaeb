import { type ChildProcess, execFile, spawn } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { createServer } from 'node:net'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { warmUp } from '../../../scripts/ground.mjs'
import { layDemoBench } from '../../support/demo-bench'
import { bringMoves, type Reached } from '../../support/stages'

/** A running server with a bench of its own. */
export interface Served {
  readonly url: string
  readonly data: string
  /** Ends the process at once, as a power cut would, and leaves the data. */
  kill(): Promise<void>
  /** Ends the process and throws its bench away. */
  close(): Promise<void>
}

/** Makes a demo bench in a folder of its own and serves the built application on a free port. */
export async function serve(
  options: {
    data?: string
    port?: number
    env?: Record<string, string>
    warm?: boolean
    /** Moves of the demo, by their ids, that stand further on than that has them. */
    moves?: Readonly<Record<string, Reached>>
  } = {},
): Promise<Served> {
  const data = options.data ?? mkdtempSync(path.join(tmpdir(), 'imbarco-'))
  const port = options.port ?? (await freePort())
  const env = { ...process.env, IMBARCO_DATA: data, NODE_ENV: 'production' as const, NEXT_TELEMETRY_DISABLED: '1' }
  if (!options.data) await layDemoBench(data)
  if (options.moves) bringMoves(data, options.moves)
  const server = spawn(
    process.execPath,
    ['node_modules/next/dist/bin/next', 'start', '-H', '127.0.0.1', '-p', String(port)],
    {
      env: { ...env, ...options.env },
      stdio: ['ignore', 'pipe', 'inherit'],
    },
  )
  await new Promise<void>((resolve, reject) => {
    server.stdout!.on('data', (chunk: Buffer) => {
      // What the server prints is of interest only when a test is looked into.
      if (process.env.IMBARCO_TEST_LOG) process.stderr.write(chunk)
      if (chunk.toString().includes('Ready')) resolve()
    })
    server.once('exit', (code) => reject(new Error(`The server left with code ${code}.`)))
  })
  const kill = () => ended(server, 'SIGKILL')
  const url = `http://127.0.0.1:${port}`
  if (options.warm) await warmUp(url)
  return {
    url,
    data,
    kill,
    async close() {
      await kill()
      rmSync(data, { recursive: true, force: true })
    },
  }
}

/** Starts a server that is expected to end by itself, and tells what it said. */
export function startInVain(
  data: string,
  env: Record<string, string> = {},
): Promise<{ readonly code: number | string | undefined; readonly said: string }> {
  const start = ['node_modules/next/dist/bin/next', 'start', '-H', '127.0.0.1', '-p', '0']
  return new Promise((resolve) => {
    const options = {
      env: { ...process.env, NODE_ENV: 'production' as const, IMBARCO_DATA: data, ...env },
      timeout: 60_000,
    }
    execFile(process.execPath, start, options, (error, _out, said) => resolve({ code: error?.code ?? 0, said }))
  })
}

function ended(server: ChildProcess, signal: NodeJS.Signals): Promise<void> {
  if (server.exitCode !== null || server.signalCode !== null) return Promise.resolve()
  return new Promise((resolve) => {
    server.once('exit', () => resolve())
    server.kill(signal)
  })
}

export function freePort(): Promise<number> {
  return new Promise((resolve) => {
    const probe = createServer()
    probe.listen(0, '127.0.0.1', () => {
      const { port } = probe.address() as { port: number }
      probe.close(() => resolve(port))
    })
  })
}
