import pino from 'pino'

/** The server's own log, for whoever runs it; what a technician should know goes into the logbook. */
export const log = pino({ name: 'imbarco', level: process.env.IMBARCO_LOG ?? 'warn' })
