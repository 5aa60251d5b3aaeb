import { orUndefined } from '@/core/errors'
import type { FixedAddress } from '@/core/registry/addresses'
import type { Move } from '../../moves'
import { driveBytes } from '../../world'
import { keptReading } from '../../world/kept-readings'

/** The interface of a virtual machine's only card, which its system keeps its settings under. */
export const INTERFACE_OF_CARD = '{5f2b9c61-7d04-4a1e-b3c8-0e96d4a7f215}'

/** The fixed address of the machine that a move is from, read in the registry of its drive. */
export async function oldAddress({ row, pairs }: Move): Promise<FixedAddress | undefined> {
  const survey = row.survey?.pairs[0].source
  if (!survey) return undefined
  const drive = driveBytes(pairs[0].source)
  const found = await keptReading('readAddresses', { drive, survey }, { about: survey.fingerprint }).catch(orUndefined)
  return found?.at(0)
}
