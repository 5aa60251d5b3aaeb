import * as z from 'zod'
import type { OpenDrive } from '@/outside/open-drive'
import { type BootChoice, bootMenu, chosenOnce } from '@/core/boot/menu'
import { FirmwareSchema } from '@/core/boot/types'
import { type BenchState, driveIn } from '@/core/things/bench'
import { MIB } from '@/core/bytes/size'
import { isHost } from '@/core/things/accessory'
import { type Computer, NetworkCardSchema } from '@/core/things/computer'
import { driveName, isWithinReach } from '@/core/things/drive'
import { inBenchQueue } from '../../ground/queue'
import { Refusal } from '../../ground/refusals'
import { runTask } from '../../jobs/threads'
import { driveUse, leasableDrive, withLease } from '../../leases'
import { benchOfComputer, changeComputer, computerById, driveBytes, drivesInside } from '..'
import { attach, attachedDrives } from './attach'
import { refuseTwinOnNetwork } from './network'

// What a person does at a computer of the bench: switches, programs, its boot menu and its firmware's settings.

export const SwitchSchema = z.discriminatedUnion('do', [
  /** By a line of its boot menu, or as the firmware decides. */
  z.object({ do: z.literal('start'), choice: z.string().max(60).optional() }),
  z.object({ do: z.literal('shut-down') }),
  z.object({ do: z.literal('mains'), on: z.boolean() }),
  z.object({ do: z.literal('program'), of: z.string().max(40), on: z.boolean() }),
  z.object({ do: z.literal('network'), on: z.boolean() }),
  z.object({ do: z.literal('sleep'), minutes: z.number().int().positive().max(1440).nullable() }),
  /** What a virtual machine is given of its host. */
  z.object({
    do: z.literal('machine'),
    memoryMib: z.number().int().min(128),
    leastMemoryMib: z.number().int().min(128),
    processors: z.number().int().min(1).max(256),
    cards: z
      .array(
        z.object({
          name: NetworkCardSchema.shape.name,
          connected: z.boolean(),
          vlan: z.number().int().min(1).max(4094).nullable(),
        }),
      )
      .max(8),
  }),
  z.object({
    do: z.literal('firmware'),
    settings: FirmwareSchema.pick({
      secureBoot: true,
      trustedSigners: true,
      bootEntries: true,
      bootOrder: true,
      driveOrder: true,
    }),
  }),
])

/** Does it. Throws Refusal, nothing changed, where the computer would not. */
export async function switchComputer(id: string, input: unknown): Promise<void> {
  const asked = SwitchSchema.parse(input)
  await inBenchQueue(() => switchInTurn(id, asked))
}

async function switchInTurn(id: string, asked: z.infer<typeof SwitchSchema>): Promise<void> {
  const computer = await computerById(id)
  switch (asked.do) {
    case 'start':
      return startUp(computer, asked.choice)
    case 'shut-down':
      await refuseInUse(computer)
      return changeComputer(id, { running: 'off' })
    case 'mains':
      if (!asked.on) await refuseInUse(computer)
      return changeComputer(id, asked.on ? { mains: true } : { mains: false, running: 'off' })
    case 'program': {
      refuseOff(computer)
      if (!computer.programs.some((p) => p.id === asked.of)) throw new Refusal('program-unknown')
      const programs = computer.programs.map((p) => (p.id === asked.of ? { ...p, running: asked.on } : p))
      return changeComputer(id, { programs })
    }
    case 'network':
      refuseOff(computer)
      return changeComputer(id, { online: asked.on })
    case 'sleep':
      refuseOff(computer)
      return changeComputer(id, { sleepMinutes: asked.minutes })
    case 'machine':
      return changeMachine(computer, asked)
    case 'firmware': {
      if (computer.running !== 'off')
        throw new Refusal('firmware-closed', { computer: computer.name, key: computer.firmware.bootMenuKey })
      const { bootEntries, bootOrder, driveOrder } = asked.settings
      const known = new Set(bootEntries.map((e) => e.id))
      if (known.size < bootEntries.length) throw new Refusal('boot-entries-alike')
      if (bootOrder.some((entry) => !known.has(entry))) throw new Refusal('boot-entry-unknown')
      if (driveOrder.some((slot) => !computer.slots.some((s) => s.id === slot)))
        throw new Refusal('drive-order-unknown')
      return changeComputer(id, { firmware: { ...computer.firmware, ...asked.settings } })
    }
  }
}

type MachineSettings = Extract<z.infer<typeof SwitchSchema>, { do: 'machine' }>

/** Gives a virtual machine other shares of its host, and other cards. Throws Refusal. */
async function changeMachine(computer: Computer, asked: MachineSettings): Promise<void> {
  const { virtual, id, name, running } = computer
  if (!virtual) throw new Refusal('computer-not-virtual', { computer: name })
  const { memoryMib, leastMemoryMib, processors, cards } = asked
  const sized = memoryMib * MIB !== computer.memoryBytes || processors !== computer.processors.cores
  if (sized && running !== 'off') throw new Refusal('machine-runs', { computer: name })
  if (leastMemoryMib > memoryMib) throw new Refusal('machine-memory-range')
  if (new Set(cards.map((card) => card.name)).size < cards.length) throw new Refusal('machine-cards-alike')
  const bench = await benchOfComputer(id)
  const host = bench.accessories.filter(isHost).find((h) => h.id === virtual.hostId)
  if (host && (memoryMib * MIB > host.memoryBytes || processors > host.cores))
    throw new Refusal('machine-beyond-host', { host: host.name })
  const networkCards = cards.map(({ name: card, connected, vlan }) => ({
    name: card,
    link: 'ethernet-1' as const,
    address: null,
    unplugged: !connected,
    ...(vlan === null ? {} : { vlan }),
  }))
  await refuseTwinOnNetwork({ ...computer, networkCards }, bench)
  await changeComputer(id, {
    memoryBytes: memoryMib * MIB,
    processors: { count: 1, cores: processors },
    virtual: { ...virtual, leastMemoryBytes: leastMemoryMib * MIB },
    networkCards,
  })
}

async function startUp(computer: Computer, choice: string | undefined): Promise<void> {
  const { id, name } = computer
  if (computer.running !== 'off') throw new Refusal('computer-running', { computer: name })
  if (!computer.mains && (computer.batteryPercent ?? 0) === 0)
    throw new Refusal('computer-no-mains', { computer: name })
  await refuseInUse(computer)
  const bench = await benchOfComputer(id)
  const firmware = choice === undefined ? computer.firmware : chosenOnce(computer.firmware, choice)
  const attached = attachedDrives(bench, computer)
  const trace = await runTask('followStart', { firmware, attached, reference: undefined })
  const stop = trace.links.find((l) => l.state === 'failed')
  if (stop) throw new Refusal('computer-does-not-start', { link: stop.title, found: stop.found, why: stop.why ?? '' })
  await refuseTwinOnNetwork(computer, bench)
  const drive = bench.drives.find((d) => d.id === trace.startedFrom)
  // What slept goes on where it was; its own computer writes to its drive.
  if (drive && !drive.kernel && trace.systemPartition !== undefined)
    await withLease({ purpose: `a start of the ${name}`, write: [await leasableDrive(drive)] }, () =>
      runTask('wake', { drive: driveBytes(drive), partition: trace.systemPartition! }),
    )
  await changeComputer(id, { running: 'system' })
}

/** What the boot menu of a computer shows now. */
export async function menuOf(bench: BenchState, computer: Computer): Promise<BootChoice[]> {
  return withSlots(bench, computer, (drives) => bootMenu(computer.firmware, drives))
}

async function withSlots<T>(
  bench: BenchState,
  computer: Computer,
  work: (drives: Awaited<ReturnType<typeof attach>>) => Promise<T>,
): Promise<T> {
  const opened: OpenDrive[] = []
  try {
    return await work(await attach(bench, computer, opened))
  } finally {
    for (const drive of opened) await drive.close()
  }
}

/** Everything the page of a computer shows. Throws Refusal for one that there is not. */
export async function computerPage(id: string) {
  const computer = await computerById(id)
  const bench = await benchOfComputer(id)
  const drives = computer.slots.flatMap((slot) => {
    const drive = driveIn(bench, { kind: 'slot', computerId: id, slot: slot.id })
    if (!drive) return []
    return [{ slot: slot.id, id: drive.id, name: driveName(drive), serial: drive.serial, image: drive.image }]
  })
  const host = bench.accessories.filter(isHost).find((h) => h.id === computer.virtual?.hostId)
  const menu = await menuOf(bench, computer)
  const unread = bench.drives.flatMap((d) =>
    d.place.kind === 'slot' && d.place.computerId === id && !isWithinReach(d) ? [driveName(d)] : [],
  )
  return { computer, drives, menu, unread, copying: usedBy(computer, bench) !== undefined, host: host?.name ?? null }
}

/** What keeps a computer from losing its power or starting another system, as `the copy of Ticket desk`. */
const usedBy = ({ id }: Computer, bench: BenchState) => driveUse(drivesInside(bench, id), { needsPower: true })

async function refuseInUse(computer: Computer): Promise<void> {
  const use = usedBy(computer, await benchOfComputer(computer.id))
  if (use) throw new Refusal('computer-in-use', { computer: computer.name, purpose: use })
}

function refuseOff({ running: state, name }: Computer): void {
  if (state !== 'system') throw new Refusal('computer-not-running', { computer: name })
}
