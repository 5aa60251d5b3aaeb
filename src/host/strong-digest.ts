import { blake3 as hash } from '@napi-rs/blake-hash'
import type { Digest } from '@/core/digest'

/** How the digest of a copy is called where it is shown. */
export const BLAKE3 = 'BLAKE3' as const

/** BLAKE3, 32 bytes, for the many bytes of a copy: strong, and quicker than drives are. */
export const blake3: Digest = (bytes) => hash(bytes)
