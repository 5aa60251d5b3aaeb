import { CoreError } from '../../errors'
import { fixedAddressesIn, withFixedAddress } from '../../registry/addresses'
import { openSystemHive, patchesOfFile, SYSTEM_HIVE_PATH, systemPlace } from '../places'
import type { RepairKind } from '../port'

/** A new network card has none of the fixed address that the old one had, and others look for the computer there. */
export const cardAddress: RepairKind = {
  name: 'card-address',
  title: 'Give the new network card the fixed address of the old one',
  async plan(subject) {
    const { card } = subject
    if (!card) throw new CoreError('It is not known which fixed address the old network card had.')
    const place = await systemPlace(subject)
    const { bytes, hive } = await openSystemHive(place)
    const { address, interfaceId } = card
    const now = await fixedAddressesIn(hive)
    if (
      now.some(
        (one) => one.id.toLowerCase() === interfaceId.toLowerCase() && sameTexts(one.addresses, address.addresses),
      )
    )
      return { changes: [], patches: [] }
    const other = now.find((one) => one.addresses.some((a) => address.addresses.includes(a)))
    if (other)
      throw new CoreError(
        'The old network card is still in the settings with this address. Let go of the devices of the old computer first.',
      )
    const after = await withFixedAddress(bytes, hive, { ...address, id: interfaceId }, subject.time)
    return {
      changes: [
        `In ${SYSTEM_HIVE_PATH} the interface ${interfaceId} gets ${address.addresses.join(' and ')}, mask ${address.masks.join(' and ')}${address.gateways.length > 0 ? `, gateway ${address.gateways.join(' and ')}` : ''}.`,
      ],
      patches: await patchesOfFile(subject, place, SYSTEM_HIVE_PATH, bytes, after),
      files: [{ path: SYSTEM_HIVE_PATH, partition: place.partition.number }],
    }
  },
}

const sameTexts = (a: readonly string[], b: readonly string[]) => a.join() === b.join()
