import * as z from 'zod'
import type { DriverPackage } from './packages'

/** Devices of a computer without whose driver a system does not start there, or is not in the network. */
export type DeviceKind = 'storage' | 'network'

/**
 * What a device on the PCI bus says that it is, as setup information files name it: maker and device, and behind them
 * the board and the revision where they are known.
 */
export const DeviceIdSchema = z
  .string()
  .trim()
  .regex(
    /^PCI\\VEN_[0-9A-F]{4}&DEV_[0-9A-F]{4}(&SUBSYS_[0-9A-F]{8})?(&REV_[0-9A-F]{2})?$/i,
    'A device id reads like PCI\\VEN_1F5C&DEV_09A1',
  )

/** A device that a system needs a driver for. */
export interface WantedDriver {
  /** What it says that it is; absent where that is not known. */
  readonly deviceId?: string
  /** Drivers that are known to serve it, by their service names. */
  readonly drivers: readonly string[]
}

/** Those of some ids that name a device. They may do so more broadly than it does itself: without its board or its revision. */
export function idsServing(hardwareIds: readonly string[], deviceId: string): string[] {
  const [vendor, device, ...more] = deviceId.toUpperCase().split('&')
  const broad = [vendor, `${vendor}&${device}`]
  const own = [...broad, ...more.map((part) => `${broad[1]}&${part}`), deviceId.toUpperCase()]
  return hardwareIds.filter((id) => own.includes(id.toUpperCase()))
}

/** The driver for a device among those of a folder: by what the device says that it is, or else by a known name. */
export function packageFor(
  packages: readonly DriverPackage[],
  kind: DeviceKind,
  { deviceId, drivers }: WantedDriver,
): DriverPackage | undefined {
  const ofKind = packages.filter((p) => p.kind === kind)
  const isNamed = ({ service }: DriverPackage) => drivers.some((name) => name.toLowerCase() === service.toLowerCase())
  if (deviceId === undefined) return ofKind.find(isNamed)
  const serving = ofKind.filter((p) => idsServing(p.hardwareIds, deviceId).length > 0)
  return serving.find(isNamed) ?? serving[0]
}
