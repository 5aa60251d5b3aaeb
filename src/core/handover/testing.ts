import { GIB, MIB } from '../bytes/size'
import { CopySummarySchema } from '../copy/progress'
import type { Sheet } from './sheet'

type Summary = Sheet['legs'][number]['summary']

/** The summary of a copy that went well, with changes. */
export const summary = (changes: Partial<Summary> = {}): Summary => ({
  ...CopySummarySchema.parse({
    copiedBytes: 202 * GIB,
    writtenBytes: 10 * MIB,
    checkedBytes: 202 * GIB,
    digest: '4cf982acfcc3aa00',
    digestName: 'BLAKE3',
    bufferBytes: 32 * MIB,
    copySeconds: 555,
    checkSeconds: 545,
    partitions: [],
  }),
  ...changes,
})

/** The sheet of the ticket desk, not handed over yet, with changes. */
export const sheet = (changes: Partial<Sheet> = {}): Sheet => ({
  format: 'imbarco sheet',
  version: 1,
  shop: 'Molo Sette, Porto Salvia',
  move: { name: 'Ticket desk', customer: 'Lanterna museum', reason: 'more room' },
  computer: { name: 'ticket desk', model: 'Brezza T20' },
  onto: null,
  machine: null,
  by: null,
  oldDriveStays: false,
  handedOver: null,
  day: '4 May 2026',
  started: '09:00:08',
  ended: '09:18:28',
  drives: [
    {
      from: { name: 'Corvina S3 240 GB', serial: 'CRV3-8841-07KD' },
      to: { name: 'Corvina S5 960 GB', serial: 'CRV5-2207-4M1Q' },
    },
  ],
  legs: [{ number: 1, title: 'Corvina S3 240 GB to Corvina S5 960 GB', summary: summary() }],
  partitions: [],
  start: { time: '09:18', links: [], checks: [] },
  repairs: [],
  skipped: [],
  speeds: [],
  stillOff: [],
  roomUnused: [],
  keptUntil: null,
  ...changes,
})
