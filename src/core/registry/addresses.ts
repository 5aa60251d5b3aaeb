import { controlSetIn } from './control-set'
import { HiveEditor } from './edit'
import type { Hive, HiveKey } from './hive'

const INTERFACES = 'Services\\Tcpip\\Parameters\\Interfaces'

/** A network interface with a fixed address, as a Windows keeps it: addresses with their masks, and gateways. */
export interface FixedAddress {
  /** The key of the interface, a GUID in braces. */
  readonly id: string
  readonly addresses: readonly string[]
  readonly masks: readonly string[]
  readonly gateways: readonly string[]
}

/** The interfaces with a fixed address in a SYSTEM hive; those that ask for theirs are left out. */
export async function fixedAddressesIn(hive: Hive): Promise<FixedAddress[]> {
  const found: FixedAddress[] = []
  for (const key of await interfacesIn(hive)) {
    const addresses = await textsOf(hive, key, 'IPAddress')
    if (addresses.length === 0) continue
    const [masks, gateways] = [await textsOf(hive, key, 'SubnetMask'), await textsOf(hive, key, 'DefaultGateway')]
    found.push({ id: key.name, addresses, masks, gateways })
  }
  return found
}

/** The keys of all interfaces. */
export async function interfacesIn(hive: Hive): Promise<HiveKey[]> {
  const key = await hive.key(`${await controlSetIn(hive)}\\${INTERFACES}`)
  return key ? hive.keys(key) : []
}

/** A hive's file in which an interface has a fixed address; the interface is made where there is none. */
export async function withFixedAddress(
  file: Uint8Array,
  hive: Hive,
  { id, addresses, masks, gateways }: FixedAddress,
  time: bigint,
): Promise<Uint8Array> {
  const editor = await HiveEditor.open(file)
  const key = await editor.make(`${await controlSetIn(hive)}\\${INTERFACES}\\${id}`, time)
  await editor.set(key, 'EnableDHCP', 0)
  await editor.set(key, 'IPAddress', [...addresses])
  await editor.set(key, 'SubnetMask', [...masks])
  if (gateways.length > 0) await editor.set(key, 'DefaultGateway', [...gateways])
  return editor.done(time)
}

/** A value with several texts; none where it is not there. What stands for no address counts as none. */
async function textsOf(hive: Hive, key: HiveKey, name: string): Promise<string[]> {
  const value = await hive.find(key, name)
  if (!value) return []
  return new TextDecoder('utf-16le')
    .decode(value.data)
    .split('\0')
    .filter((text) => text !== '' && text !== '0.0.0.0')
}
