import { type BlockDevice, ReadOnlyDevice } from './device'

/** The same device with writing refused: how a source is always opened. */
export function readOnly(device: BlockDevice): BlockDevice {
  return {
    size: device.size,
    logicalSectorSize: device.logicalSectorSize,
    physicalSectorSize: device.physicalSectorSize,
    read: (offset, into) => device.read(offset, into),
    write: async () => {
      throw new ReadOnlyDevice()
    },
    flush: async () => {},
    ...(device.mapped ? { mapped: (offset: number, length: number) => device.mapped!(offset, length) } : {}),
  }
}
