import { judgeSignature } from '@/core/boot/signature'
import { loaderOn } from '@/core/boot/loader-on'
import { type DeviceKind, packageFor, type WantedDriver } from '@/core/drivers/device'
import { driversOn } from '@/core/drivers/on-drive'
import type { DriverFolder } from '@/core/drivers/packages'
import type { DriverAtHand, ReadyGoal } from '@/core/ready/port'
import { isHost } from '@/core/things/accessory'
import { driversAt } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { sha256 } from '@/host/sha256'
import { withDrive } from '../world'
import { withStickDrivers } from '../world/stick'
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
  return withStickDrivers(bench, (folder) =>
    withDrive(source, async (device) => {
      // One at a time: each of them reads the drive.
      const installed = await driversOn(device, survey, controller.drivers)
      const ofCard = card && (await driversOn(device, survey, card.drivers))
      const asks = firmware.mode === 'uefi' && firmware.secureBoot
      const loader = asks ? await loaderOn(device, survey, sha256) : undefined
      return {
        kind: 'other-computer',
        name: goal.name,
        drivers: controller.drivers,
        installed,
        ...atHand(folder, 'storage', controller),
        ...(card
          ? {
              network: {
                drivers: card.drivers,
                deviceId: card.deviceId,
                installed: ofCard,
                ...atHand(folder, 'network', card),
              },
            }
          : {}),
        ...(survey.scheme === 'gpt' || survey.scheme === 'mbr'
          ? { firmware: { mode: firmware.mode, scheme: survey.scheme } }
          : {}),
        ...(loader ? { loader: { path: loader.path, judgement: judgeSignature(firmware, loader.signature) } } : {}),
      }
    }),
  )
}

function atHand(folder: DriverFolder | undefined, kind: DeviceKind, wanted: WantedDriver): { atHand?: DriverAtHand } {
  const found = folder && packageFor(folder.packages, kind, wanted)
  return found ? { atHand: { service: found.service, name: found.name, folder: found.folder } } : {}
}
