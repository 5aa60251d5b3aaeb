// npm run demo: installs and builds what is missing, makes the demo bench once, serves it.
import { existsSync, readFileSync } from 'node:fs'
import path from 'node:path'
import { isFree, makeBench } from './ground.mjs'
import { announce, endTogether, prepare, serve } from './serve.mjs'

const where = await prepare('data')
const { args, port, host, data, env, address } = where
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

const server = serve(env, host, port, async () => {
  await announce(where)
  // What every drive holds is read once; whoever opens a new move then finds it known.
  void fetch(`${address}/moves/new`).catch(() => {})
})
/** Whoever has the port already keeps it, and the shop's bench works without the other one. */
const farServer = hasFar && (await isFree(farPort)) ? serve(farEnv, '127.0.0.1', farPort, lend) : undefined
if (hasFar && !farServer) console.log(`Port ${farPort} is in use, so Miele e Cera is not there to lend a drive.`)
endTogether(server, farServer)

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
