import { judgeSignature } from '@/core/boot/signature'
import type { WantedDriver } from '@/core/drivers/device'
import type { ReadyGoal } from '@/core/ready/port'
import { isHost } from '@/core/things/accessory'
import { driversAt } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { driveBytes } from '../world'
import { keptReading } from '../world/kept-readings'
import { stickImage } from '../world/stick'
import type { Move } from '.'

/** The network card of a computer of which it is known which driver it needs. */
export function knownCard({ networkCards }: Computer): (WantedDriver & { name: string }) | undefined {
  const card = networkCards.find((c) => c.drivers !== undefined || c.deviceId !== undefined)
  return card && { name: card.name, drivers: card.drivers ?? [], deviceId: card.deviceId }
}

/** Where the system will live, what of its drivers serves there, and what Secure Boot makes of its loader. */
export async function goalOf(move: Move): Promise<ReadyGoal | undefined> {
  const { brief, bench, goal, pairs, row } = move
  if (brief.toVirtualMachine) {
    const host = bench.accessories.find(isHost)
    const { reasons = [], obstacles = [] } = row.route?.machine ?? {}
    return { kind: 'virtual-machine', hostName: host?.name ?? 'host', reasons, obstacles }
  }
  const [{ source, target }] = pairs
  const survey = row.survey?.pairs[0].source
  if (!goal || !target || !survey) return undefined
  const slot = goal.slots.find((s) => s.id === goal.homeSlot)
  const controller: WantedDriver = { drivers: driversAt(slot, target), deviceId: slot?.deviceId }
  const card = knownCard(goal)
  const { firmware } = goal
  const asksLoader = firmware.mode === 'uefi' && firmware.secureBoot
  const stick = stickImage(bench)
  const { storage, network, loader } = await keptReading(
    'readForGoal',
    { drive: driveBytes(source), survey, controller, card, asksLoader, stick },
    { about: [survey.fingerprint, controller, card, asksLoader], beside: stick === undefined ? [] : [stick] },
  )
  return {
    kind: 'other-computer',
    name: goal.name,
    drivers: controller.drivers,
    ...storage,
    ...(card ? { network: { drivers: card.drivers, deviceId: card.deviceId, ...network } } : {}),
    ...(survey.scheme === 'gpt' || survey.scheme === 'mbr'
      ? { firmware: { mode: firmware.mode, scheme: survey.scheme } }
      : {}),
    ...(loader ? { loader: { path: loader.path, judgement: judgeSignature(firmware, loader.signature) } } : {}),
  }
}
