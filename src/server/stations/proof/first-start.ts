import * as z from 'zod'
import type { Computer } from '@/core/things/computer'
import { isHost } from '@/core/things/accessory'
import { firstStartSteps, type FirstStartStep } from '@/core/vm/first-start'
import { MIB } from '@/core/bytes/size'
import { inTransaction } from '../../database/transaction'
import { Refusal } from '../../ground/refusals'
import { loadMove, type Move, saveStationResults } from '../../moves'
import type { LogWords } from '../../moves/logbook'
import { changeComputer } from '../../world'
import { refuseTwinOnNetwork } from '../../world/computers/network'
import { oldAddress } from './old-address'
import { offeredTidying, repairWaits } from './repairs'

/** The first start of a move's virtual machine, step by step; undefined of a move to a computer. */
export async function firstStart(move: Move): Promise<FirstStartStep[] | undefined> {
  const { goal: machine, computer, row, pairs } = move
  if (!machine?.virtual) return undefined
  const last = row.proof?.trials.at(-1)
  const made = (row.proof?.repairs ?? []).filter((r) => !r.undone)
  const started = last?.trace.starts === true && last.subject === 'target' && !repairWaits(move)
  const [card] = machine.networkCards
  const tidying = last?.subject === 'target' ? await offeredTidying(move) : []
  return firstStartSteps({
    machine: {
      connected: card !== undefined && card.unplugged !== true,
      vlan: card?.vlan,
      memoryBytes: machine.memoryBytes,
      cores: machine.processors.count * machine.processors.cores,
      disks: pairs.filter((p) => p.target).length,
    },
    physical: {
      name: computer.name,
      running: computer.running !== 'off',
      memoryBytes: computer.memoryBytes,
      cores: computer.processors.count * computer.processors.cores,
    },
    started,
    checks: last?.checks.length ?? 0,
    failed: (last?.checks ?? []).filter((c) => !c.passed).length,
    leftover: tidying.find((t) => t.name === 'old-devices')?.changes ?? [],
    devicesGone: made.some((r) => r.name === 'old-devices'),
    addresses: (await oldAddress(move))?.addresses ?? [],
    addressGiven: made.some((r) => r.name === 'card-address'),
  })
}

export const FirstStartSchema = z.discriminatedUnion('step', [
  z.object({ step: z.literal('power-off') }),
  z.object({ step: z.literal('network'), vlan: z.number().int().min(1).max(4094).nullable() }),
  z.object({
    step: z.literal('size'),
    memoryMib: z.number().int().min(128),
    leastMemoryMib: z.number().int().min(128),
    processors: z.number().int().min(1).max(256),
  }),
])

/** Does a step of the first start. Throws Refusal, nothing changed, where it is not its turn. */
export async function takeFirstStartStep(moveId: string, input: unknown): Promise<void> {
  const asked = FirstStartSchema.parse(input)
  await inTransaction(() => take(moveId, asked))
}

async function take(moveId: string, asked: z.infer<typeof FirstStartSchema>): Promise<void> {
  const move = await loadMove(moveId)
  const { goal: machine, computer } = move
  const steps = await firstStart(move)
  if (!machine?.virtual || !steps) throw new Refusal('no-machine')
  const step = steps.find((s) => s.id === asked.step)!
  if (step.state === 'waits') throw new Refusal('first-start-order', { step: step.title, waits: step.waits ?? '' })
  const change = async (id: string, changes: Partial<Computer>, line: LogWords) => {
    await changeComputer(id, changes)
    await saveStationResults(moveId, {}, line)
  }
  switch (asked.step) {
    case 'power-off':
      return change(computer.id, { running: 'off' }, `${computer.name} powered off for good`)
    case 'network': {
      const { vlan } = asked
      const [card, ...others] = machine.networkCards
      const networkCards = [{ ...card, unplugged: false, vlan: vlan ?? undefined }, ...others]
      await refuseTwinOnNetwork({ ...machine, networkCards }, move.bench)
      const where = vlan === null ? '' : ` in VLAN ${vlan}`
      return change(machine.id, { networkCards }, `network card of the ${machine.name} connected${where}`)
    }
    case 'size': {
      const { memoryMib, leastMemoryMib, processors } = asked
      const host = move.bench.accessories.filter(isHost).find((h) => h.id === machine.virtual?.hostId)
      if (leastMemoryMib > memoryMib) throw new Refusal('machine-memory-range')
      if (host && (memoryMib * MIB > host.memoryBytes || processors > host.cores))
        throw new Refusal('machine-beyond-host', { host: host.name })
      const changes = {
        memoryBytes: memoryMib * MIB,
        processors: { count: 1, cores: processors },
        virtual: { ...machine.virtual, leastMemoryBytes: leastMemoryMib * MIB },
      }
      return change(machine.id, changes, `${machine.name}: ${memoryMib} MiB, ${processors} processors`)
    }
  }
}
