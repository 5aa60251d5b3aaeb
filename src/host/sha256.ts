import { createHash } from 'node:crypto'
import type { Digest } from '@/core/digest'

/** SHA-256 for core. */
export const sha256: Digest = (bytes) => createHash('sha256').update(bytes).digest()
