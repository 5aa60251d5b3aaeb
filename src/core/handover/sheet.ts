import * as z from 'zod'
import { TraceLinkSchema } from '../boot/types'
import { formatDuration, formatRate, formatSize, groupDigits } from '../bytes/size'
import { CopySummarySchema, type Lost, lostWords } from '../copy/progress'
import { shortDigest } from '../digest'
import { SpeedSchema } from '../intake/speed'
import { ProofCheckSchema } from '../proof/compare'
import { counted } from '../words'

const DriveSchema = z.object({ name: z.string(), serial: z.string() })

/** What was done in a move, as it goes with the computer: for the screen, for paper, and as JSON. Bench times in words. */
export const SheetSchema = z.object({
  format: z.literal('imbarco sheet'),
  version: z.literal(1),
  shop: z.string(),
  move: z.object({ name: z.string(), customer: z.string(), reason: z.string() }),
  computer: z.object({ name: z.string(), model: z.string() }),
  /** The computer that it lives in now, where that is another one. */
  onto: z.object({ name: z.string(), model: z.string() }).nullable(),
  /** What it has, where that is a virtual machine. */
  machine: z
    .object({
      host: z.string(),
      firmware: z.enum(['uefi', 'bios']),
      leastMemoryBytes: z.number(),
      memoryBytes: z.number(),
      processors: z.number(),
      cards: z.array(z.object({ name: z.string(), connected: z.boolean(), vlan: z.number().nullable() })),
    })
    .nullable()
    .default(null),
  /** Who carried it out; null until it is handed over. */
  by: z.string().nullable(),
  handedOver: z.object({ day: z.string(), time: z.string() }).nullable(),
  day: z.string(),
  started: z.string(),
  ended: z.string(),
  drives: z
    .array(
      z.object({
        from: DriveSchema,
        to: DriveSchema,
        /** The one partition that went, by its number on each drive; absent where the whole drive did. */
        volume: z.object({ from: z.number(), to: z.number() }).optional(),
      }),
    )
    .min(1),
  /** One for each time that bytes were moved. */
  legs: z.array(z.object({ number: z.number(), title: z.string(), summary: CopySummarySchema })).min(1),
  partitions: z.array(
    z.object({ key: z.string(), title: z.string(), before: z.number(), after: z.number(), usedBytes: z.number() }),
  ),
  start: z.object({ time: z.string(), links: z.array(TraceLinkSchema), checks: z.array(ProofCheckSchema) }),
  repairs: z.array(
    z.object({ title: z.string(), changes: z.array(z.string()), grows: z.boolean(), know: z.array(z.string()) }),
  ),
  /** What stood in the way of the copy and was gone past, with the reason. */
  skipped: z.array(z.object({ title: z.string(), reason: z.string() })),
  speeds: z.array(
    z.object({ source: z.string(), target: z.string(), before: SpeedSchema.optional(), after: SpeedSchema }),
  ),
  /** What was turned off for the copy and is not on again. */
  stillOff: z.array(z.string()),
  /** Volumes that do not fill their partitions, and how their systems take the rest; a sentence each. */
  roomUnused: z.array(z.string()).default([]),
  /** The old drives are still in the computer. */
  oldDriveStays: z.boolean().default(false),
  /** Until when the old drive is kept, in words. */
  keptUntil: z.string().nullable(),
})
export type Sheet = z.infer<typeof SheetSchema>

/** A line of the sheet: what it is about, and what there is to say. */
export type SheetRow = readonly [name: string, value: string]

/** What was done, in one line. */
export function sheetTitle({ move: { name, reason } }: Sheet): string {
  const did =
    reason === 'another computer'
      ? 'to another computer'
      : reason === 'virtual machine'
        ? 'into a virtual machine'
        : `for ${reason}`
  return `${name}: moved ${did}`
}

/** The lines at the head of the sheet. */
export function sheetRows(sheet: Sheet): SheetRow[] {
  const { legs, move, computer, onto, drives } = sheet
  const lost = legs.flatMap((leg) => leg.summary.lost)
  return [
    ['Customer', move.customer],
    ['Computer', `${computer.model}, the ${computer.name}`],
    ...(onto ? [['Onto', `${onto.model}, the ${onto.name}`] as const] : []),
    ...(sheet.machine ? [['Runs on', machineWords(sheet.machine)] as const] : []),
    ...drives.flatMap(({ from, to, volume }): SheetRow[] => [
      ['From', `${volume ? `partition ${volume.from} of ` : ''}${from.name}, s/n ${from.serial}`],
      ['To', `${volume ? `partition ${volume.to} of ` : ''}${to.name}, s/n ${to.serial}`],
    ]),
    [
      'Copied',
      `${formatSize(legs.reduce((sum, l) => sum + l.summary.copiedBytes, 0))} on ${sheet.day}, ${sheet.started} to ${sheet.ended}`,
    ],
    ...legs.map(({ number, title, summary }): SheetRow => [
      legs.length > 1 ? `Leg ${number}` : 'Took',
      `${legs.length > 1 ? `${title}: ` : ''}${formatDuration(summary.copySeconds)} copying at ${formatRate(summary.copiedBytes / summary.copySeconds)}, ${summary.checkedBytes > 0 ? `${formatDuration(summary.checkSeconds)} reading back` : 'not read back'}`,
    ]),
    ['Lost', lost.length === 0 ? 'nothing' : `${lostWords(lost)}: ${lostFiles(lost)}`],
    ['Checked', legs.map((l) => checkedWords(l.summary)).join('; ')],
    ...leftOut(sheet),
    ...legs.flatMap(({ summary }) =>
      summary.further.filter((f) => f.why === null).map((f): SheetRow => ['Written in the same reading', f.name]),
    ),
    ...sheet.repairs.map((r): SheetRow => [r.grows ? 'Taken up' : 'Repaired', `${r.title}. ${r.changes.join(' ')}`]),
    ...sheet.skipped.map((item): SheetRow => ['Skipped check', `${item.title} ${item.reason}`]),
    ...sheet.speeds.flatMap(({ before, after }): SheetRow[] =>
      before
        ? [
            [
              'Speed',
              `reading in one go ${formatRate(before.sequentialBytesPerSecond)} before, ${formatRate(after.sequentialBytesPerSecond)} now; small reads ${groupDigits(before.randomReadsPerSecond)} a second before, ${groupDigits(after.randomReadsPerSecond)} now`,
            ],
          ]
        : [],
    ),
    ...(sheet.by === null ? [] : [['Done by', sheet.by] as const]),
  ]
}

function machineWords({
  host,
  firmware,
  leastMemoryBytes,
  memoryBytes,
  processors,
  cards,
}: NonNullable<Sheet['machine']>) {
  const memory =
    leastMemoryBytes < memoryBytes
      ? `${formatSize(leastMemoryBytes)} to ${formatSize(memoryBytes)} of memory`
      : `${formatSize(memoryBytes)} of memory`
  const network = cards.map(({ name, connected, vlan }) =>
    connected ? `${name} connected${vlan === null ? '' : ` in VLAN ${vlan}`}` : `${name} not connected`,
  )
  return [`the ${host}: ${firmware.toUpperCase()}`, memory, counted(processors, 'processor'), ...network].join(', ')
}

/** What the customer should know, one sentence each. */
export function sheetAdvice(sheet: Sheet): string[] {
  const { keptUntil, legs, stillOff, drives, repairs, start, roomUnused, oldDriveStays } = sheet
  const lost = legs.some((l) => l.summary.lost.length > 0)
  const alone = drives.some((d) => d.volume)
  return [
    'A first disk check or a question about an improper shutdown is normal once.',
    alone
      ? 'The system is in both computers now, with the same keys and accounts. All else on both drives is unchanged.'
      : oldDriveStays
        ? `The old ${drives.length > 1 ? 'drives are' : 'drive is'} still in the computer, unchanged. The new one has an identity of its own, so that both can be in; the boot menu offers either system, and in the new one the old volumes get other letters.`
        : `The old ${drives.length > 1 ? 'drives are' : 'drive is'} unchanged. Do not put ${drives.length > 1 ? 'them' : 'it'} into the same computer together with the new one: both carry one identity.`,
    ...(lost
      ? ['The files that lost something are named above. Where there is a backup of them, take them from there.']
      : []),
    // What the start was not followed into is for whoever sits before it.
    ...new Set(start.links.flatMap((l) => (l.state === 'unproved' && l.why ? [l.why] : []))),
    ...roomUnused,
    ...repairs.flatMap((r) => r.know),
    ...(stillOff.length > 0 ? [`Turned off for the copy and not on again: ${stillOff.join(', ')}.`] : []),
    ...(keptUntil
      ? [
          oldDriveStays
            ? `Until ${keptUntil} what is on ${drives.length > 1 ? 'the old drives' : 'the old drive'} is the way back and has to stay as it is.`
            : `${drives.length > 1 ? 'They are' : 'It is'} kept here until ${keptUntil} and can be put back until then.`,
        ]
      : []),
  ]
}

function checkedWords({ checkedBytes, digest, digestName }: Sheet['legs'][number]['summary']): string {
  if (checkedBytes === 0) return 'nothing was read back, as chosen'
  return `all ${formatSize(checkedBytes)} read back equal, ${digestName} ${shortDigest(digest)}`
}

/** Page, hibernation and swap files whose content stayed behind. */
function leftOut({ legs }: Sheet): SheetRow[] {
  const paths = legs.flatMap((l) => l.summary.partitions.flatMap((p) => p.leftOut.map((f) => f.path.slice(1))))
  return paths.length === 0 ? [] : [['Left out', [...new Set(paths)].join(', ')]]
}

function lostFiles(lost: readonly Lost[]): string {
  const files = [...new Set(lost.flatMap((run) => run.files))]
  const shown = files.slice(0, 12).join(', ')
  return files.length > 12
    ? `${shown} and ${files.length - 12} more`
    : shown || 'the places belong to no file that can be told'
}
