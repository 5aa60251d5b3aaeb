import { type BlockDevice, readBytes } from '../../block/device'
import { viewOf } from '../../bytes/struct'
import { BadStructure } from '../../errors'
import { BAD_CLUSTER, BOOT_SECTOR, END_OF_CHAIN, ENTRY_MASK, FAT32_MIN_CLUSTERS, FIRST_CLUSTER } from './layout'

/** The numbers of a FAT32 boot sector, checked. Offsets in bytes from the volume's start. */
export interface FatGeometry {
  readonly sectorSize: number
  readonly clusterSize: number
  readonly clusterCount: number
  readonly totalBytes: number
  readonly fatOffset: number
  readonly fatBytes: number
  readonly fatCount: number
  readonly dataOffset: number
  readonly rootCluster: number
  readonly serial: number
  readonly label: string
}

/** Reads and checks the boot sector of a FAT32 volume. Throws BadStructure. */
export async function readFatGeometry(device: BlockDevice): Promise<FatGeometry> {
  const boot = BOOT_SECTOR.read(await readBytes(device, 0, 512))
  const bad = (why: string) => new BadStructure('FAT boot sector', 0, why)
  const { bytesPerSector: sectorSize, sectorsPerCluster, reservedSectors, fatCount, fatSectors } = boot
  if (![512, 1024, 2048, 4096].includes(sectorSize)) throw bad(`it gives ${sectorSize} bytes a sector`)
  if (!Number.isInteger(Math.log2(sectorsPerCluster))) throw bad(`it gives ${sectorsPerCluster} sectors a cluster`)
  if (reservedSectors === 0 || fatCount === 0 || fatCount > 2 || fatSectors === 0) throw bad('it leaves out its tables')
  const totalBytes = boot.totalSectors * sectorSize
  const dataOffset = (reservedSectors + fatCount * fatSectors) * sectorSize
  const clusterSize = sectorSize * sectorsPerCluster
  if (totalBytes > device.size || dataOffset >= totalBytes) throw bad(`it claims ${boot.totalSectors} sectors`)
  const clusterCount = Math.floor((totalBytes - dataOffset) / clusterSize)
  if (clusterCount < FAT32_MIN_CLUSTERS) throw bad(`it has ${clusterCount} clusters, too few for FAT32`)
  if ((clusterCount + FIRST_CLUSTER) * 4 > fatSectors * sectorSize)
    throw bad('its tables are too short for its clusters')
  if (boot.rootCluster < FIRST_CLUSTER || boot.rootCluster >= clusterCount + FIRST_CLUSTER) {
    throw bad(`its root directory would lie in cluster ${boot.rootCluster}`)
  }
  return {
    sectorSize,
    clusterSize,
    clusterCount,
    totalBytes,
    fatOffset: reservedSectors * sectorSize,
    fatBytes: fatSectors * sectorSize,
    fatCount,
    dataOffset,
    rootCluster: boot.rootCluster,
    serial: boot.serial,
    label: boot.label.trimEnd(),
  }
}

/** An opened FAT32 volume below the level of names: table entries and chains. */
export class FatVolume {
  private cached?: { at: number; bytes: Uint8Array }

  constructor(
    readonly device: BlockDevice,
    readonly geometry: FatGeometry,
  ) {}

  /** The table entry of a cluster, 28 bits. */
  async entry(cluster: number): Promise<number> {
    const at = Math.floor((cluster * 4) / 65536) * 65536
    if (this.cached?.at !== at) {
      const length = Math.min(65536, this.geometry.fatBytes - at)
      this.cached = { at, bytes: await readBytes(this.device, this.geometry.fatOffset + at, length) }
    }
    return viewOf(this.cached.bytes).getUint32(cluster * 4 - at, true) & ENTRY_MASK
  }

  /** The whole 32 bits of the entry that carries the volume's state. */
  async stateEntry(): Promise<number> {
    return viewOf(await readBytes(this.device, this.geometry.fatOffset + 4, 4)).getUint32(0, true)
  }

  /** Clusters of a chain in order. Throws BadStructure when it loops, leaves the volume or runs into a free one. */
  async chain(first: number, what: string): Promise<number[]> {
    const clusters: number[] = []
    const limit = this.geometry.clusterCount + FIRST_CLUSTER
    for (let cluster = first; cluster < END_OF_CHAIN; cluster = await this.entry(cluster)) {
      if (cluster < FIRST_CLUSTER || cluster >= limit || cluster === BAD_CLUSTER) {
        throw new BadStructure(
          'FAT chain',
          this.geometry.fatOffset + cluster * 4,
          `${what} leads to cluster ${cluster}`,
        )
      }
      clusters.push(cluster)
      if (clusters.length > this.geometry.clusterCount) {
        throw new BadStructure('FAT chain', this.geometry.fatOffset + cluster * 4, `${what} leads back to itself`)
      }
    }
    return clusters
  }

  /** Part of a chain's bytes. Neighbouring clusters are read in one request. */
  async readChain(clusters: readonly number[], offset: number, length: number): Promise<Uint8Array> {
    const { clusterSize, dataOffset } = this.geometry
    const end = Math.min(offset + length, clusters.length * clusterSize)
    const out = new Uint8Array(Math.max(0, end - offset))
    for (let i = Math.floor(offset / clusterSize); i * clusterSize < end;) {
      let run = 1
      while (i + run < clusters.length && clusters[i + run] === clusters[i] + run) run++
      const from = Math.max(offset, i * clusterSize)
      const to = Math.min(end, (i + run) * clusterSize)
      const at = dataOffset + (clusters[i] - FIRST_CLUSTER) * clusterSize + from - i * clusterSize
      out.set(await readBytes(this.device, at, to - from), from - offset)
      i += run
    }
    return out
  }
}
