import { type BlockDevice, readBytes, writeBytes } from '../../block/device'
import { CoreError } from '../../errors'
import { expectLabel } from '../label-rule'
import { INCOMPATIBLE, STATE_CLEAN, STATE_ERRORS, SUPERBLOCK, SUPERBLOCK_OFFSET } from './layout'
import { ExtSums } from './sums'
import { readExtGeometry } from './volume'

const LABEL_BYTES = 16

/** Gives an ext volume another label, in its first superblock, where systems read it. */
export async function relabelExt(device: BlockDevice, label: string): Promise<void> {
  expectLabel('ext4', label)
  const geometry = await readExtGeometry(device)
  const { incompatible, state } = geometry.superblock
  if (incompatible & INCOMPATIBLE.recover || state & STATE_ERRORS || (state & STATE_CLEAN) === 0)
    throw new CoreError('The volume was not closed cleanly, so it is not written to before a file-system check.')
  const superblock = (await readBytes(device, SUPERBLOCK_OFFSET, SUPERBLOCK.size)).slice()
  const bytes = new Uint8Array(LABEL_BYTES)
  bytes.set(new TextEncoder().encode(label))
  SUPERBLOCK.write(superblock, { label: bytes })
  new ExtSums(geometry, superblock).superblock(superblock)
  await writeBytes(device, SUPERBLOCK_OFFSET, superblock)
}
