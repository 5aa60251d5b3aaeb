import crc16 from 'crc/calculators/crc16modbus'
import { crc32c } from '../../bytes/crc32'
import { viewOf } from '../../bytes/struct'
import { GROUP_DESCRIPTOR, INCOMPATIBLE, INODE, INODE_EXTRA, READ_ONLY, SUPERBLOCK } from './layout'
import type { ExtGeometry } from './volume'

/**
 * The sums of ext4 as the kernel's documentation has them ("Checksums"): CRC-32C without its closing inversion over
 * everything where the volume has metadata checksums, CRC-16 over group descriptors where it only has those.
 */
export class ExtSums {
  readonly metadata: boolean
  readonly groups: boolean
  private readonly seed: number
  private readonly uuid: Uint8Array

  constructor(geometry: ExtGeometry, superblock: Uint8Array) {
    const { readOnlyCompatible, incompatible, checksumSeed } = geometry.superblock
    this.metadata = (readOnlyCompatible & READ_ONLY.metadataChecksum) !== 0
    this.groups = this.metadata || (readOnlyCompatible & READ_ONLY.groupChecksum) !== 0
    this.uuid = superblock.slice(104, 120)
    this.seed = incompatible & INCOMPATIBLE.checksumSeed ? checksumSeed : raw(this.uuid, 0xffffffff)
  }

  /** Puts the sum into a superblock. */
  superblock(bytes: Uint8Array): void {
    if (this.metadata) SUPERBLOCK.write(bytes, { checksum: raw(bytes.subarray(0, 1020), 0xffffffff) })
  }

  /** Puts the sum into a group's descriptor. */
  descriptor(bytes: Uint8Array, group: number): void {
    if (!this.groups) return
    GROUP_DESCRIPTOR.write(bytes, { checksum: 0 })
    if (this.metadata) {
      const sum = raw(bytes, raw(le32(group), this.seed))
      GROUP_DESCRIPTOR.write(bytes, { checksum: sum & 0xffff })
      return
    }
    // The sum itself is left out of it.
    let sum = crc16(this.uuid, 0xffff)
    sum = crc16(le32(group), sum)
    sum = crc16(bytes.subarray(0, 30), sum)
    if (bytes.length > 32) sum = crc16(bytes.subarray(32), sum)
    GROUP_DESCRIPTOR.write(bytes, { checksum: sum & 0xffff })
  }

  /** The sum of a bitmap, of which only the bits of the group count. */
  bitmap(bytes: Uint8Array, bits: number): number {
    return this.metadata ? raw(bytes.subarray(0, bits / 8), this.seed) : 0
  }

  /** Puts the sum into an inode. */
  inode(bytes: Uint8Array, number: number): void {
    if (!this.metadata) return
    const { generation } = INODE.read(bytes)
    const wide = bytes.length > 128 && INODE_EXTRA.read(bytes).extraSize >= 4
    INODE.write(bytes, { checksumLow: 0 })
    if (wide) INODE_EXTRA.write(bytes, { checksumHigh: 0 })
    const sum = raw(bytes, raw(le32(generation), raw(le32(number), this.seed)))
    INODE.write(bytes, { checksumLow: sum & 0xffff })
    if (wide) INODE_EXTRA.write(bytes, { checksumHigh: sum >>> 16 })
  }
}

function raw(bytes: Uint8Array, seed: number): number {
  return ~crc32c(bytes, ~seed) >>> 0
}

function le32(value: number): Uint8Array {
  const bytes = new Uint8Array(4)
  viewOf(bytes).setUint32(0, value, true)
  return bytes
}
