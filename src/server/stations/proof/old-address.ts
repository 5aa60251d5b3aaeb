import type { BlockDevice } from '@/core/block/device'
import { SliceDevice } from '@/core/block/slice'
import { orUndefined } from '@/core/errors'
import { openFileSystem } from '@/core/filesystem'
import { fixedAddressesIn, type FixedAddress } from '@/core/registry/addresses'
import { Hive } from '@/core/registry/hive'
import type { DriveSurvey } from '@/core/survey/types'
import type { Move } from '../../moves'
import { withDrive } from '../../world'

const SYSTEM_HIVE = '/Windows/System32/config/SYSTEM'

/** The interface of a virtual machine's only card, which its system keeps its settings under. */
export const INTERFACE_OF_CARD = '{5f2b9c61-7d04-4a1e-b3c8-0e96d4a7f215}'

/** The fixed address of the machine that a move is from, read in the registry of its drive. */
export async function oldAddress({ row, pairs }: Move): Promise<FixedAddress | undefined> {
  const survey = row.survey?.pairs[0].source
  if (!survey) return undefined
  const [first] = await withDrive(pairs[0].source, (device) => addressesOn(device, survey)).catch(() => [])
  return first
}

async function addressesOn(device: BlockDevice, { partitions }: DriveSurvey): Promise<FixedAddress[]> {
  const home = partitions.find((p) => p.system?.family === 'windows')
  if (!home) return []
  const look = async () => {
    const volume = await openFileSystem(new SliceDevice(device, home.startBytes, home.sizeBytes))
    const file = await volume?.stat(SYSTEM_HIVE)
    if (!volume || file?.kind !== 'file') return []
    return fixedAddressesIn(await Hive.open((at, length) => volume.readFile(SYSTEM_HIVE, at, length), file.sizeBytes))
  }
  return (await look().catch(orUndefined)) ?? []
}
