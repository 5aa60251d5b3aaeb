// npm start: installs and builds what is missing, and serves the bench of the data folder. With --devices it is the bench of
// this computer's own drives, in a data folder of its own; with --loops loop devices are drives, too.
import { announce, endTogether, prepare, serve } from './serve.mjs'

const isDevices = process.argv.includes('--devices')
const where = await prepare(isDevices ? 'data-devices' : 'data')
const devices = where.args.includes('--loops') ? 'loops' : 'drives'
const env = { ...where.env, ...(isDevices ? { IMBARCO_DEVICES: devices } : {}) }
endTogether(serve(env, where.host, where.port, () => announce(where, ['/', '/bench', '/images'])))
