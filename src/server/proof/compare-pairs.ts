import { type DriveBytes, openDrive } from '@/bench/open-drive'
import { readOnly } from '@/core/block/readonly'
import { compareWithSource, type Planned, type ProofCheck } from '@/core/proof/compare'
import { sha256 } from '@/host/sha256'
import { blake3 } from '@/host/strong-digest'

/** Two drives to be compared. */
export interface PairOrder {
  readonly source: DriveBytes
  readonly target: DriveBytes
  readonly planned: Planned
}

export type FromCompareWorker =
  | { readonly type: 'done'; readonly checks: readonly ProofCheck[][] }
  | { readonly type: 'failed'; readonly message: string }

/** Compares every pair, reading both; rejects with CoreError where one cannot be read at all. */
export async function comparePairs(orders: readonly PairOrder[]): Promise<ProofCheck[][]> {
  const found: ProofCheck[][] = []
  for (const { source, target, planned } of orders) {
    const from = await openDrive(source, { writable: false })
    const to = await openDrive(target, { writable: false }).catch(async (error: unknown) => {
      await from.close()
      throw error
    })
    try {
      found.push(await compareWithSource(readOnly(from.device), readOnly(to.device), planned, sha256, blake3))
    } finally {
      await from.close()
      await to.close()
    }
  }
  return found
}
