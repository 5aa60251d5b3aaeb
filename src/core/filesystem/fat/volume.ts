import { type BlockDevice, readBytes } from '../../block/device'
import { viewOf } from '../../bytes/struct'
import { BadStructure } from '../../errors'
import { allocate } from '../allocate'
import {
  BAD_CLUSTER,
  BOOT_SECTOR,
  BOOT_SECTOR_16,
  END_OF_CHAIN,
  ENTRY_MASK,
  FAT16_MIN_CLUSTERS,
  type FatBits,
  FIRST_CLUSTER,
} from './layout'

/** The numbers of a FAT boot sector, checked. Offsets in bytes from the volume's start. */
export interface FatGeometry {
  readonly bits: FatBits
  readonly sectorSize: number
  readonly clusterSize: number
  readonly clusterCount: number
  readonly totalBytes: number
  readonly fatOffset: number
  readonly fatBytes: number
  readonly fatCount: number
  readonly dataOffset: number
  /** First cluster of the root directory, or 0 where it has a place of its own in front of the clusters. */
  readonly rootCluster: number
  readonly rootOffset: number
  readonly rootBytes: number
  readonly serial: number
  readonly label: string
  /** The state byte of the boot sector. */
  readonly stateByte: number
}

/** Reads and checks the boot sector of a FAT volume of any width. Throws BadStructure. */
export async function readFatGeometry(device: BlockDevice): Promise<FatGeometry> {
  const bytes = await readBytes(device, 0, 512)
  const boot = BOOT_SECTOR.read(bytes)
  const bad = (why: string) => new BadStructure('FAT boot sector', 0, why)
  const { bytesPerSector: sectorSize, sectorsPerCluster, reservedSectors, fatCount } = boot
  if (![512, 1024, 2048, 4096].includes(sectorSize)) throw bad(`it gives ${sectorSize} bytes a sector`)
  if (!Number.isInteger(Math.log2(sectorsPerCluster))) throw bad(`it gives ${sectorsPerCluster} sectors a cluster`)
  const fatSectors = boot.fatSectors16 || boot.fatSectors
  if (reservedSectors === 0 || fatCount === 0 || fatCount > 2 || fatSectors === 0) throw bad('it leaves out its tables')
  const totalSectors = boot.totalSectors16 || boot.totalSectors
  const totalBytes = totalSectors * sectorSize
  const rootOffset = (reservedSectors + fatCount * fatSectors) * sectorSize
  const rootBytes = Math.ceil((boot.rootEntries * 32) / sectorSize) * sectorSize
  const dataOffset = rootOffset + rootBytes
  const clusterSize = sectorSize * sectorsPerCluster
  if (totalBytes > device.size || dataOffset >= totalBytes) throw bad(`it claims ${totalSectors} sectors`)
  const clusterCount = Math.floor((totalBytes - dataOffset) / clusterSize)
  // Only FAT32 has no root directory of fixed length; the two others differ by their number of clusters.
  const wide = boot.fatSectors16 === 0 && boot.rootEntries === 0
  const bits: FatBits = wide ? 32 : clusterCount < FAT16_MIN_CLUSTERS ? 12 : 16
  if (clusterCount === 0) throw bad('it leaves no room for clusters')
  if (Math.ceil(((clusterCount + FIRST_CLUSTER) * bits) / 8) > fatSectors * sectorSize) {
    throw bad('its tables are too short for its clusters')
  }
  if (wide && (boot.rootCluster < FIRST_CLUSTER || boot.rootCluster >= clusterCount + FIRST_CLUSTER)) {
    throw bad(`its root directory would lie in cluster ${boot.rootCluster}`)
  }
  if (!wide && boot.rootEntries === 0) throw bad('it has no root directory')
  const { serial, label, state } = wide ? boot : BOOT_SECTOR_16.read(bytes)
  return {
    bits,
    sectorSize,
    clusterSize,
    clusterCount,
    totalBytes,
    fatOffset: reservedSectors * sectorSize,
    fatBytes: fatSectors * sectorSize,
    fatCount,
    dataOffset,
    rootCluster: wide ? boot.rootCluster : 0,
    rootOffset,
    rootBytes,
    serial,
    label: label.trimEnd(),
    stateByte: state,
  }
}

/** An opened FAT volume below the level of names: table entries and chains. */
export class FatVolume {
  private cached?: { at: number; bytes: Uint8Array }

  constructor(
    readonly device: BlockDevice,
    readonly geometry: FatGeometry,
  ) {}

  /** The table entry of a cluster. */
  async entry(cluster: number): Promise<number> {
    const { bits } = this.geometry
    if (bits === 12) {
      const at = cluster + (cluster >> 1)
      const pair = (await this.tableByte(at)) | ((await this.tableByte(at + 1)) << 8)
      return (cluster & 1 ? pair >> 4 : pair) & ENTRY_MASK[12]
    }
    const width = bits / 8
    const { at, bytes } = await this.tablePiece(cluster * width)
    const view = viewOf(bytes)
    const value = width === 2 ? view.getUint16(cluster * 2 - at, true) : view.getUint32(cluster * 4 - at, true)
    return value & ENTRY_MASK[bits]
  }

  /** All bits of the entry that carries the volume's state, those that the mask of an entry hides included. */
  async stateEntry(): Promise<number> {
    const { bits, fatOffset } = this.geometry
    if (bits === 12) return 0
    const bytes = await readBytes(this.device, fatOffset + bits / 8, bits / 8)
    return bits === 16 ? viewOf(bytes).getUint16(0, true) : viewOf(bytes).getUint32(0, true)
  }

  /**
   * Clusters of a chain in order, `most` of them at the most. Throws BadStructure when it leaves the volume,
   * runs into a free cluster, or goes on behind `most` and `whole` was asked.
   */
  async chain(first: number, what: string, most: number, whole = false): Promise<number[]> {
    const { bits, clusterCount, fatOffset } = this.geometry
    const clusters: number[] = []
    const limit = clusterCount + FIRST_CLUSTER
    const bad = (cluster: number, why: string) =>
      new BadStructure('FAT chain', fatOffset + Math.floor((cluster * bits) / 8), `${what} ${why}`)
    for (let cluster = first; cluster < END_OF_CHAIN[bits]; cluster = await this.entry(cluster)) {
      if (clusters.length >= most) {
        if (whole) throw bad(cluster, 'is longer than can be, or leads back to itself')
        break
      }
      if (cluster < FIRST_CLUSTER || cluster >= limit || cluster === BAD_CLUSTER[bits]) {
        throw bad(cluster, `leads to cluster ${cluster}`)
      }
      clusters.push(cluster)
    }
    return clusters
  }

  /** Clusters of a chain as far as it leads: up to its end, or to a cluster that the table has as free. */
  async chainAsFarAsItLeads(first: number): Promise<number[]> {
    const { bits, clusterCount } = this.geometry
    const clusters: number[] = []
    for (let cluster = first; cluster >= FIRST_CLUSTER && cluster < clusterCount + FIRST_CLUSTER;) {
      clusters.push(cluster)
      if (clusters.length > clusterCount) break
      const next = await this.entry(cluster)
      if (next >= END_OF_CHAIN[bits]) break
      cluster = next
    }
    return clusters
  }

  /** Offset on the volume of a cluster. */
  offsetOf(cluster: number): number {
    return this.geometry.dataOffset + (cluster - FIRST_CLUSTER) * this.geometry.clusterSize
  }

  /** Part of a chain's bytes. Neighbouring clusters are read in one request. */
  async readChain(clusters: readonly number[], offset: number, length: number): Promise<Uint8Array> {
    const { clusterSize } = this.geometry
    const end = Math.min(offset + length, clusters.length * clusterSize)
    const out = allocate(end - offset)
    for (let i = Math.floor(offset / clusterSize); i * clusterSize < end;) {
      let run = 1
      while (i + run < clusters.length && clusters[i + run] === clusters[i] + run) run++
      const from = Math.max(offset, i * clusterSize)
      const to = Math.min(end, (i + run) * clusterSize)
      const at = this.offsetOf(clusters[i]) + from - i * clusterSize
      out.set(await readBytes(this.device, at, to - from), from - offset)
      i += run
    }
    return out
  }

  private async tableByte(offset: number): Promise<number> {
    const { at, bytes } = await this.tablePiece(offset)
    return bytes[offset - at]
  }

  private async tablePiece(offset: number): Promise<{ at: number; bytes: Uint8Array }> {
    const at = Math.floor(offset / 65536) * 65536
    if (this.cached?.at !== at) {
      const length = Math.min(65536, this.geometry.fatBytes - at)
      this.cached = { at, bytes: await readBytes(this.device, this.geometry.fatOffset + at, length) }
    }
    return this.cached
  }
}
