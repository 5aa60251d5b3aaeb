import { randomBytes } from 'node:crypto'
import { readdir } from 'node:fs/promises'
import path from 'node:path'
import { traceBoot } from '@/core/boot/trace'
import { STORAGE_DRIVERS } from '@/core/survey/known-systems'
import { type Firmware, FirmwareSchema, type Trace } from '@/core/boot/types'
import { fileTime } from '@/core/bytes/file-time'
import { DeviceIdSchema } from '@/core/drivers/device'
import { driversIn } from '@/core/drivers/packages'
import { CoreError } from '@/core/errors'
import { changesNothing, planRepair } from '@/core/repair'
import { applyRepair, type RepairRecord, settleRepair } from '@/core/repair/apply'
import { readScheme } from '@/core/scheme'
import { placeOfPartition } from '@/core/survey/open-partition'
import { folderFiles } from '@/host/folder-files'
import { repairIn, repairJournal } from '@/host/repair-journal'
import { sha256 } from '@/host/sha256'
import { type Io, json, type Options, STOPS } from './commands'
import { type InPlaceOptions, inPlaceOf } from './in-place'
import { withImage } from './open'

export interface TraceOptions extends Options {
  readonly firmware: Firmware['mode']
  readonly driver?: string
  /** The partition of the system that is chosen, where there are several. */
  readonly system?: number
}

/** Follows the start of a computer with this drive alone in it. Exit code 1 when a link fails. */
export async function trace(file: string, options: TraceOptions, io: Io): Promise<number> {
  const { firmware: mode, driver, system } = options
  const found = await withImage(file, options, async ({ device }) => {
    if (system !== undefined) await placeOfPartition(device, system)
    const firmware = FirmwareSchema.parse({
      mode,
      secureBoot: false,
      bootMenuKey: '',
      bootEntries: [],
      bootOrder: [],
    })
    const drive = { driveId: file, name: file, slot: 'the only slot', device, ...(driver ? { drivers: [driver] } : {}) }
    return traceBoot(firmware, [drive], undefined, sha256, system)
  })
  const systemPartition = found.systemPartition ?? null
  const report = { file, firmware: mode, starts: found.starts, systemPartition, links: found.links }
  await io.print(options.json ? json(report) : traceText(found))
  return found.starts ? 0 : STOPS
}

const MARKS = { passed: 'passed', failed: 'FAILED', unproved: 'not followed', 'not-reached': 'not reached' }

function traceText({ links, starts }: Trace): string {
  const lines = links.flatMap(({ title, state, found, evidence, why, repairs }) => [
    `${title.padEnd(16)} ${MARKS[state].padEnd(13)} ${state === 'not-reached' ? '' : found}`.trimEnd(),
    ...(evidence ? [`${''.padEnd(30)} ${evidence}`] : []),
    ...(why ? [`${''.padEnd(30)} ${why}`] : []),
    ...(repairs ?? []).map((name) => `${''.padEnd(30)} Repair: ${name}`),
  ])
  return `${lines.join('\n')}\n${starts ? 'No link fails.' : 'It does not start.'}\n`
}

export interface RepairOptions extends Options, InPlaceOptions {
  readonly firmware?: Firmware['mode']
  readonly driver?: string
  readonly driverFolder?: string
  /** What the controller or the network card says that it is. */
  readonly deviceId?: string
  /** The partition of the system that is meant, where there are several. */
  readonly system?: number
  readonly dryRun?: boolean
}

/**
 * Makes a repair on a raw image or a drive, or says what it would change. What stood there is kept in a journal, each
 * repair in one of its own.
 */
export async function repair(file: string, name: string, options: RepairOptions, io: Io): Promise<number> {
  const { place, table } = await withImage(file, options, async (image) => ({
    // What is only looked at may be an image of any kind.
    place: options.dryRun && image.deviceNumber === undefined ? undefined : await inPlaceOf(file, image, options, io),
    table: (await readScheme(image.device))?.scheme,
  }))
  const beside = place?.beside ?? file
  const journals = await repairJournalsOf(beside)
  const mode = options.firmware ?? (table === 'mbr' ? 'bios' : 'uefi')
  const drivers = options.driver ? [options.driver] : STORAGE_DRIVERS
  const { driverFolder } = options
  const folder = driverFolder === undefined ? undefined : await driversIn(folderFiles(driverFolder), '/')
  const controllerId = options.deviceId === undefined ? undefined : DeviceIdSchema.parse(options.deviceId)
  const known = options.driver !== undefined || controllerId !== undefined
  const card = { name: 'network card', drivers: options.driver ? [options.driver] : [], deviceId: controllerId }
  const devices = { drivers, controllerId, ...(known ? { cards: [card] } : {}) }
  const asked = {
    mode,
    ...devices,
    system: options.system,
    driverFolder: folder,
    time: fileTime(Date.now()),
    chance: randomBytes(16),
  }
  const cut: { file: string; record: RepairRecord }[] = []
  for (const journal of journals) {
    const record = await repairIn(journal)
    if (record?.state === 'writing') cut.push({ file: journal, record })
  }
  const told = (state: string, changes: readonly string[], patches: number, title: string) =>
    options.json
      ? json({ file, repair: name, title, state, changes, sectors: patches })
      : `${title}\n${changes.map((c) => `  ${c}\n`).join('')}${STATES[state]}\n`
  if (options.dryRun || !place) {
    if (cut.length > 0)
      throw new CoreError(`A repair of ${file} was cut off. Run a repair without --dry-run, which takes it back first.`)
    const plan = await withImage(file, options, ({ device }) => planRepair(name, { device, ...asked }))
    const state = changesNothing(plan) ? 'nothing' : 'planned'
    await io.print(told(state, plan.changes, plan.patches.length, plan.title))
    return 0
  }
  const { device, close } = await place.open()
  try {
    for (const { file: journal, record } of cut) {
      await settleRepair(device, record, repairJournal(journal))
      io.say('A repair that was cut off was undone first.')
    }
    const plan = await planRepair(name, { device, ...asked })
    if (!changesNothing(plan)) await applyRepair(device, plan, repairJournal(nextJournal(beside, journals)))
    const state = changesNothing(plan) ? 'nothing' : 'done'
    await io.print(told(state, plan.changes, plan.patches.length, plan.title))
    return 0
  } finally {
    await close()
  }
}

/** Journals of earlier repairs, by what their names begin with: `.repair`, then `.repair-2` and on. */
export async function repairJournalsOf(beside: string): Promise<string[]> {
  const base = `${path.basename(beside)}.repair`
  const names = await readdir(path.dirname(path.resolve(beside))).catch(() => [])
  return names
    .filter((name) => name === base || (name.startsWith(`${base}-`) && /^\d+$/.test(name.slice(base.length + 1))))
    .map((name) => path.join(path.dirname(beside), name))
}

/** A name that no journal has yet: what an earlier repair keeps for being taken back is never written over. */
export function nextJournal(beside: string, journals: readonly string[]): string {
  const taken = new Set(journals.map((journal) => path.basename(journal)))
  for (let i = 1; ; i++) {
    const name = i === 1 ? `${beside}.repair` : `${beside}.repair-${i}`
    if (!taken.has(path.basename(name))) return name
  }
}

export const STATES: Readonly<Record<string, string>> = {
  nothing: 'Nothing that this would change was found.',
  planned: 'Nothing was written.',
  done: 'Written and read back. What stood there is kept in its journal.',
}
