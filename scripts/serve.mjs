// What the scripts that serve pages have in common: where they listen, what they refuse, and the server itself.
import { spawn } from 'node:child_process'
import { existsSync, mkdirSync } from 'node:fs'
import { networkInterfaces } from 'node:os'
import path from 'node:path'
import { bin, build, checkNode, checkPort, checkRoom, install, ROOT, stop, warmUp } from './ground.mjs'

/** Reads the arguments, and installs and builds what is missing. `folder` holds the data where no other is named. */
export async function prepare(folder) {
  const args = process.argv.slice(2)
  const value = (name) => (args.includes(name) ? args[args.indexOf(name) + 1] : undefined)
  const port = Number(value('--port') ?? process.env.PORT ?? 4310)
  const host = process.env.HOST ?? '127.0.0.1'
  if (!Number.isInteger(port) || port < 1 || port > 65535)
    stop(`"${value('--port')}" is not a port number between 1 and 65535.`)
  checkNode()
  const data = path.resolve(ROOT, process.env.IMBARCO_DATA ?? folder)
  if (!isLoopback(host) && !existsSync(path.join(data, 'passphrase.json'))) {
    stop(
      `HOST is ${host}, which others in the network can reach, and nothing would keep them from reading and erasing the drives. Set a passphrase first, with npm run passphrase, or leave HOST out.`,
    )
  }
  await checkPort(port, host, data)
  mkdirSync(data, { recursive: true })
  checkRoom(300, data)
  await install()
  await build()
  /** Where it is reached; a server that listens on all addresses is reached at each. */
  const addresses = isEverywhere(host) ? ['127.0.0.1', ...ownAddresses()] : [host]
  const [address, ...others] = addresses.map((name) => `http://${name.includes(':') ? `[${name}]` : name}:${port}`)
  const env = {
    ...process.env,
    IMBARCO_DATA: data,
    IMBARCO_ADDRESS: address,
    IMBARCO_LISTENS_ON: host,
    NEXT_TELEMETRY_DISABLED: '1',
  }
  return { args, port, host, data, env, address, others }
}

/** Starts a server. `onReady` is called once it answers. */
export function serve(env, host, port, onReady) {
  const server = spawn(process.execPath, [bin('next'), 'start', '-H', host, '-p', String(port)], {
    cwd: ROOT,
    env,
    stdio: ['ignore', 'pipe', 'inherit'],
  })
  let ready = false
  server.stdout.on('data', (chunk) => {
    if (ready || !chunk.toString().includes('Ready')) return
    ready = true
    void onReady()
  })
  return server
}

/** Says where it is reached, once its first calls are over. */
export async function announce({ address, others }, pages) {
  await warmUp(address, pages)
  console.log(`Imbarco is at ${address}  (Ctrl C ends it)`)
  if (others.length > 0) console.log(`From the network, with the passphrase: ${others.join(', ')}`)
}

/** Ends with the first of the servers, and ends them all with it. */
export function endTogether(server, ...others) {
  const all = [server, ...others.filter(Boolean)]
  for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => all.forEach((one) => one.kill(signal)))
  server.on('exit', (code, signal) => {
    for (const other of all.slice(1)) other.kill()
    process.exit(signal ? 0 : (code ?? 0))
  })
}

function isLoopback(name) {
  return name === 'localhost' || name === '::1' || /^127(\.\d{1,3}){3}$/.test(name)
}

function isEverywhere(name) {
  return name === '0.0.0.0' || name === '::'
}

function ownAddresses() {
  const found = Object.values(networkInterfaces()).flat()
  return found
    .filter((one) => !one.internal && (one.family === 'IPv4' || !one.address.startsWith('fe80')))
    .map((one) => one.address)
}
