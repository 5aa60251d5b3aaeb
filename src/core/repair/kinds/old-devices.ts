import type { Hive, HiveKey } from '../../registry/hive'
import { fixedAddressesIn, interfacesIn } from '../../registry/addresses'
import { HiveEditor } from '../../registry/edit'
import { counted } from '../../words'
import { openSystemHive, patchesOfFile, SYSTEM_HIVE_PATH, systemPlace } from '../places'
import type { RepairKind } from '../port'

/** The bus on which a computer's own controllers and cards are; what is there anew is found again at a start. */
const BUS = 'Enum\\PCI'
/** So many devices are named one by one. */
const MOST_NAMED = 8
const INTERFACES = 'Services\\Tcpip\\Parameters\\Interfaces'

/** A system goes on keeping the devices of the computer it came from, and the fixed addresses of their network cards. */
export const oldDevices: RepairKind = {
  name: 'old-devices',
  title: 'Let go of the devices of the computer that it came from',
  async plan(subject) {
    const place = await systemPlace(subject)
    const { bytes, hive, set } = await openSystemHive(place)
    const bus = await hive.key(`${set}\\${BUS}`)
    const devices = bus ? await hive.keys(bus) : []
    const cards = await interfacesIn(hive)
    if (devices.length === 0 && cards.length === 0) return { changes: [], patches: [] }
    const names = await namesOf(hive, devices)
    const addresses = (await fixedAddressesIn(hive)).flatMap((card) => card.addresses)
    const editor = await HiveEditor.open(bytes)
    for (const { name } of devices) await editor.removeKey(`${set}\\${BUS}\\${name}`)
    for (const { name } of cards) await editor.removeKey(`${set}\\${INTERFACES}\\${name}`)
    const after = editor.done(subject.time)
    const more = names.length > MOST_NAMED ? [`${names.length - MOST_NAMED} more`] : []
    return {
      changes: [
        ...(devices.length > 0
          ? [
              `In ${SYSTEM_HIVE_PATH}, ${set}\\${BUS} lets go of ${counted(devices.length, 'device')}: ${[...names.slice(0, MOST_NAMED), ...more].join(', ')}. What the new computer has is found at its start.`,
            ]
          : []),
        ...(addresses.length > 0
          ? [
              addresses.length === 1
                ? `The fixed address ${addresses[0]} goes with its network card and has to be set anew.`
                : `The fixed addresses ${addresses.join(', ')} go with their network cards and have to be set anew.`,
            ]
          : cards.length > 0
            ? [`The settings of ${counted(cards.length, 'network card')} go too.`]
            : []),
      ],
      ...(addresses.length > 0
        ? {
            know: [
              `The computer had a fixed address that its new network card does not have yet: ${addresses.join(', ')}. Set it there where it is needed.`,
            ],
          }
        : {}),
      patches: await patchesOfFile(subject, place, SYSTEM_HIVE_PATH, bytes, after),
      files: [{ path: SYSTEM_HIVE_PATH, partition: place.partition.number }],
    }
  },
}

/** What devices are called by their drivers, or else by their ids. */
async function namesOf(hive: Hive, devices: readonly HiveKey[]): Promise<string[]> {
  const names: string[] = []
  for (const device of devices) {
    const [instance] = await hive.keys(device)
    const text = instance && (await hive.text(instance, 'DeviceDesc'))
    // The description may name a text of the driver's file before its own.
    names.push(text?.split(';').at(-1) ?? device.name)
  }
  return names
}
