import type { BlockDevice } from './device'
import { ReadOnlyWrapper } from './wrapped'

/** The same device with writing refused: how a source is always opened. */
export function readOnly(device: BlockDevice): BlockDevice {
  return new ReadOnlyWrapper(device)
}
