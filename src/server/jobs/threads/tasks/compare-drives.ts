import { type DriveBytes, openToLook } from '@/outside/open-drive'
import { compareTarget, type Planned, type ProofCheck } from '@/core/proof/compare'
import { sha256 } from '@/host/sha256'
import { blake3 } from '@/host/strong-digest'

/** A drive to be compared with what was noted of the one it was copied from. */
export interface PairOrder {
  readonly target: DriveBytes
  readonly planned: Planned
}

/** Compares every pair, reading the new drives only; rejects with CoreError where one cannot be read at all. */
export async function comparePairs(orders: readonly PairOrder[]): Promise<ProofCheck[][]> {
  const found: ProofCheck[][] = []
  for (const { target, planned } of orders) {
    const { device, close } = await openToLook(target)
    try {
      found.push(await compareTarget(device, planned, { digest: sha256, fileDigest: blake3 }))
    } finally {
      await close()
    }
  }
  return found
}
