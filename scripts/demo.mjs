// npm run demo: installs and builds what is missing, makes the demo bench once, serves it.
import { spawn } from 'node:child_process'
import { existsSync, mkdirSync, readFileSync } from 'node:fs'
import { networkInterfaces } from 'node:os'
import path from 'node:path'
import {
  bin,
  build,
  checkNode,
  checkPort,
  checkRoom,
  install,
  isFree,
  makeBench,
  ROOT,
  stop,
  warmUp,
} from './ground.mjs'

const args = process.argv.slice(2)
const value = (name) => (args.includes(name) ? args[args.indexOf(name) + 1] : undefined)
const port = Number(value('--port') ?? process.env.PORT ?? 4310)
const host = process.env.HOST ?? '127.0.0.1'
if (!Number.isInteger(port) || port < 1 || port > 65535)
  stop(`"${value('--port')}" is not a port number between 1 and 65535.`)

checkNode()
const data = path.resolve(ROOT, process.env.IMBARCO_DATA ?? 'data')
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
makeBench({ reset: args.includes('--reset'), env })
/** The other bench, which lends a drive to this one: a server of its own, reached by this computer alone. */
const far = path.join(data, 'miele-e-cera')
const farPort = port < 65_535 ? port + 1 : port - 1
const farEnv = {
  ...process.env,
  HOST: '127.0.0.1',
  IMBARCO_DATA: far,
  IMBARCO_IMAGES: '',
  IMBARCO_ADDRESS: `http://127.0.0.1:${farPort}`,
  NEXT_TELEMETRY_DISABLED: '1',
}
/** A bench of the shop that was made before there was another one knows nothing of it. */
const hasFar = existsSync(path.join(far, 'lends.json'))
if (hasFar) makeBench({ reset: args.includes('--reset'), env: farEnv, honeyHouse: true })

const serve = (env, host, port, onReady) => {
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
const server = serve(env, host, port, announce)
/** Whoever has the port already keeps it, and the shop's bench works without the other one. */
const farServer = hasFar && (await isFree(farPort)) ? serve(farEnv, '127.0.0.1', farPort, lend) : undefined
if (hasFar && !farServer) console.log(`Port ${farPort} is in use, so Miele e Cera is not there to lend a drive.`)

async function announce() {
  await warmUp(address)
  console.log(`Imbarco is at ${address}  (Ctrl C ends it)`)
  if (others.length > 0) console.log(`From the network, with the passphrase: ${others.join(', ')}`)
  // What every drive holds is read once; whoever opens a new move then finds it known.
  void fetch(`${address}/moves/new`).catch(() => {})
}

/** Has the other bench lend its drive, by the code that the shop was given. */
async function lend() {
  const answer = await fetch(`${farEnv.IMBARCO_ADDRESS}/api/lent`, {
    method: 'POST',
    body: readFileSync(path.join(far, 'lends.json')),
  })
    .then((response) => response.json())
    .catch((error) => ({ ok: false, sentence: error.message }))
  console.log(
    answer.ok
      ? `Miele e Cera lends its laptop’s drive; its yes is said at ${farEnv.IMBARCO_ADDRESS}/lent`
      : `Miele e Cera lends nothing: ${answer.sentence}`,
  )
}

for (const signal of ['SIGINT', 'SIGTERM'])
  process.on(signal, () => {
    server.kill(signal)
    if (farServer) farServer.kill(signal)
  })
server.on('exit', (code, signal) => {
  if (farServer) farServer.kill()
  process.exit(signal ? 0 : (code ?? 0))
})

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
