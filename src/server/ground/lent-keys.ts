import { mkdir, rm } from 'node:fs/promises'
import path from 'node:path'
import type { Drive } from '@/core/things/drive'
import { writeWhole } from '@/host/whole-file'
import { type SharedKey, textOfKey } from '@/nbd/key'
import { lentKeyFile } from './paths'

// The keys of drives that other benches lend: each in a file that only this user reads.

export async function keepLentKey(driveId: string, key: SharedKey): Promise<void> {
  const file = lentKeyFile(driveId)
  await mkdir(path.dirname(file), { recursive: true, mode: 0o700 })
  await writeWhole(file, textOfKey(key), 0o600)
}

export async function forgetLentKey(driveId: string): Promise<void> {
  await rm(lentKeyFile(driveId), { force: true })
}

/** Where a lent drive is asked for, with the file of its key. */
export const lentUri = ({ id, borrowed }: Pick<Drive, 'id'> & { borrowed: NonNullable<Drive['borrowed']> }) =>
  `${borrowed.address}?tls-psk-file=${encodeURIComponent(lentKeyFile(id))}`
