import { type BlockDevice, type Extent, readBytes } from '../../block/device'
import { MovedDevice } from '../../block/moved'
import { OverlayDevice } from '../../block/overlay'
import { alignUp, formatSize } from '../../bytes/size'
import { BadStructure, CoreError, NotSupported } from '../../errors'
import { bitRunsOf, rangeIsSet, setBits } from '../bitmap'
import { FreeSpace, gapsOf, PlaceMap, placeAll } from '../free-space'
import { refuseUnclean } from './clean'
import { ATTRIBUTE_TYPES, BOOT_SECTOR, RECORDS, recordOf } from './layout'
import { rawAttribute, withAttributes, withRuns } from './records'
import { clipRuns, clustersOf, joinRuns, type Run, writeRuns } from './runs'
import { AttributeListOverflow, type OverfullRecord } from './attribute-list-overflow'
import { FileTable, type VolumeEdit } from './file-table'
import { fileTablePlaces, FileTableWriter } from './file-table-writer'
import { type Attribute, type FileRecord, NtfsVolume } from './volume'

/**
 * An NTFS volume as it is on `size` bytes, fewer than it has: what lies behind the new end has other places, and
 * run lists, attribute lists, the file table with its mirror, $Bitmap, $BadClus and both boot sectors say so. The
 * device is only read. Throws CoreError when the volume is not clean, contradicts itself or does not go into `size`.
 */
export async function shrinkNtfs(device: BlockDevice, size: number): Promise<OverlayDevice> {
  const volume = await NtfsVolume.open(device)
  await refuseUnclean(volume, 'is not made smaller')
  const { sectorSize, clusterSize } = volume.geometry
  // The very last sector stays outside the volume: it takes the copy of the boot sector.
  const totalSectors = size / sectorSize - 1
  const clusters = Math.floor(totalSectors / (clusterSize / sectorSize))
  return new Shrinking(volume, clusters, size).run(totalSectors)
}

class Shrinking {
  private readonly clusterSize: number
  private bits: Uint8Array = new Uint8Array()
  private map = new PlaceMap([])
  private space = new FreeSpace([])
  private overlay!: OverlayDevice
  private writer!: FileTableWriter
  /** Clusters that $Bitmap itself needs for the smaller volume. */
  private readonly bitmapBytes: number

  constructor(
    private readonly volume: NtfsVolume,
    private readonly clusters: number,
    private readonly size: number,
  ) {
    this.clusterSize = volume.geometry.clusterSize
    this.bitmapBytes = alignUp(Math.ceil(clusters / 8), 8)
  }

  async run(totalSectors: number): Promise<OverlayDevice> {
    const { volume, clusters, clusterSize } = this
    this.bits = await this.readBitmap()
    const behind = await this.stretchesBehind()
    const used = bitRunsOf(this.bits.subarray(0, Math.ceil(clusters / 8)), clusters)
    this.space = new FreeSpace(gapsOf(used, clusters))
    // The system's own files come first: their records are the ones that must not run out of room.
    const own = placeAll(behind.own, this.space)
    const files = own && placeAll(behind.files, this.space)
    const moves = files && [...own, ...files]
    if (!moves) {
      const all = [...behind.own, ...behind.files].reduce((sum, s) => sum + s.length, 0)
      const missing = all - new FreeSpace(gapsOf(used, clusters)).units
      const [room, more] = [this.size, missing * clusterSize].map(formatSize)
      throw new CoreError(`What is on the volume does not go into ${room}: ${more} are missing.`)
    }
    this.map = new PlaceMap(moves)
    for (const { to, length } of moves) setBits(this.bits, to, length)
    const bytes = moves.map((m) => ({
      from: m.from * clusterSize,
      to: m.to * clusterSize,
      length: m.length * clusterSize,
    }))
    this.overlay = new OverlayDevice(new MovedDevice(volume.device, this.size, bytes))
    const places = await fileTablePlaces(volume)
    this.writer = new FileTableWriter(this.overlay, volume.geometry, {
      ...places,
      table: this.mapRuns(places.table),
      mirror: this.mapRuns(places.mirror),
    })
    await this.rewriteRecords()
    await this.writeBitmap()
    const [mft, mirror] = [volume.geometry.mftLcn, volume.geometry.mftMirrorLcn].map((lcn) => this.map.of(lcn))
    await writeBoot(this.overlay, totalSectors, { mftLcn: mft, mftMirrorLcn: mirror })
    return this.overlay
  }

  private async readBitmap(): Promise<Uint8Array> {
    const stream = await this.volume.stream(await this.volume.record(RECORDS.bitmap), ATTRIBUTE_TYPES.data)
    const { totalClusters } = this.volume.geometry
    const bits = new Uint8Array(alignUp(Math.ceil(totalClusters / 8), 8))
    if (!stream || stream.size * 8 < totalClusters) throw new BadStructure('cluster bitmap', 0, 'it is too short')
    await stream.fill(0, bits.subarray(0, Math.min(bits.length, stream.size)))
    return bits
  }

  /**
   * What lies behind the new end: the stretches of the system's own files, and those of all others, joined where they
   * touch, since of a million small files there would be a million. Throws BadStructure where map and files differ.
   */
  private async stretchesBehind(): Promise<{ own: Extent[]; files: Extent[] }> {
    const own: Extent[] = []
    const behind = this.volume.geometry.totalClusters - this.clusters
    const others = new Uint8Array(Math.ceil(behind / 8))
    for await (const record of this.volume.usedRecords()) {
      for (const attribute of record.attributes) {
        if (!attribute.placed) continue
        const kept = this.kept(record, attribute)
        for (const { lcn, length } of attribute.placed.runs) {
          if (lcn === null) continue
          if (!rangeIsSet(this.bits, lcn, length)) {
            throw new BadStructure(
              `file record ${record.number}`,
              this.volume.recordOffset(record.number),
              `it names clusters from ${lcn} on that the map of clusters has as free; a file-system check is due`,
            )
          }
        }
        for (const { lcn, length } of kept) {
          if (lcn === null || lcn + length <= this.clusters) continue
          const from = Math.max(lcn, this.clusters)
          const base = record.header.baseRecord === 0n ? record.number : recordOf(record.header.baseRecord)
          const count = lcn + length - from
          if (base < RECORDS.firstUser) own.push({ offset: from, length: count })
          else setBits(others, from - this.clusters, count)
        }
        if (kept !== attribute.placed.runs) this.free(attribute.placed.runs, kept)
      }
    }
    const files = bitRunsOf(others, behind).map((run) => ({ ...run, offset: run.offset + this.clusters }))
    return { own, files }
  }

  /** The runs an attribute keeps: all, but for the two whose length is the volume's. */
  private kept(record: FileRecord, { type, name, placed }: Attribute): readonly Run[] {
    const { runs, lowestVcn } = placed!
    if (type !== ATTRIBUTE_TYPES.data) return runs
    const keep =
      record.number === RECORDS.bitmap && name === ''
        ? Math.ceil(this.bitmapBytes / this.clusterSize)
        : record.number === RECORDS.badClusters && name === '$Bad'
          ? this.clusters
          : undefined
    if (keep === undefined) return runs
    if (lowestVcn > 0) throw new NotSupported('The map of this volume is too scattered for it to be made smaller.')
    return clipRuns(runs, 0, keep)
  }

  private free(runs: readonly Run[], kept: readonly Run[]): void {
    let rest = kept.reduce((sum, run) => sum + run.length, 0)
    for (const { lcn, length } of runs) {
      const keep = Math.min(rest, length)
      rest -= keep
      if (lcn !== null && keep < length) setBits(this.bits, lcn + keep, length - keep, false)
    }
  }

  private async rewriteRecords(): Promise<void> {
    const { volume } = this
    const edit: VolumeEdit = {
      volume,
      table: this.writer,
      attributesOf: (record) => this.attributesOf(record) ?? record.attributes.map((a) => rawAttribute(record, a)),
      mapRuns: (runs) => this.mapRuns(runs),
      takeClusters: (count) => this.takeClusters(count),
      releaseClusters: (runs) => {
        for (const { lcn, length } of runs) if (lcn !== null) setBits(this.bits, lcn, length, false)
      },
    }
    const table = await FileTable.open(edit)
    const own = table.ownRecords()
    const overfull: OverfullRecord[] = []
    for await (const record of volume.usedRecords()) {
      const attributes = own.has(record.number) ? undefined : this.attributesOf(record)
      if (!attributes) continue
      const bytes = withAttributes(record, attributes)
      if (bytes) await this.writer.write(record.number, bytes)
      else overfull.push({ record, attributes })
    }
    await new AttributeListOverflow(edit, table).settle(overfull)
    await table.save()
  }

  /** A record's attributes with their run lists in the new places; undefined when nothing changes. */
  private attributesOf(record: FileRecord): Uint8Array[] | undefined {
    let changed = false
    const attributes = record.attributes.map((attribute) => {
      const raw = rawAttribute(record, attribute)
      const { placed } = attribute
      if (!placed) return raw
      const kept = this.kept(record, attribute)
      const clipped = kept !== placed.runs
      if (!clipped && kept.every((run) => run.lcn === null || run.lcn + run.length <= this.clusters)) return raw
      changed = true
      return withRuns(raw, this.mapRuns(kept), clipped ? this.sizesOf(record, placed) : {})
    })
    return changed ? attributes : undefined
  }

  private sizesOf(record: FileRecord, placed: NonNullable<Attribute['placed']>) {
    if (record.number === RECORDS.bitmap) {
      const bytes = this.bitmapBytes
      return { allocatedSize: alignUp(bytes, this.clusterSize), dataSize: bytes, initializedSize: bytes }
    }
    const bytes = this.clusters * this.clusterSize
    return { allocatedSize: bytes, dataSize: bytes, initializedSize: Math.min(placed.initializedSize, bytes) }
  }

  private mapRuns(runs: readonly Run[]): Run[] {
    const mapped: Run[] = []
    for (const run of runs) {
      if (run.lcn === null) mapped.push(run)
      else for (const { at, length } of this.map.pieces(run.lcn, run.length)) mapped.push({ lcn: at, length })
    }
    return joinRuns(mapped)
  }

  private takeClusters(count: number): Run[] {
    const places = this.space.take(count)
    if (!places) throw new CoreError('There is no room left on the smaller volume for its own longer lists.')
    for (const { offset, length } of places) setBits(this.bits, offset, length)
    return places.map(({ offset, length }) => ({ lcn: offset, length }))
  }

  private async writeBitmap(): Promise<void> {
    // Bits behind the end say "not there".
    const bytes = this.bits.slice(0, this.bitmapBytes)
    setBits(bytes, this.clusters, this.bitmapBytes * 8 - this.clusters)
    const record = await this.volume.record(RECORDS.bitmap)
    const data = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.data && a.name === '')
    if (!data?.placed) throw new NotSupported('This volume keeps its map in an unusual place and keeps its size.')
    const runs = this.mapRuns(this.kept(record, data))
    const padded = new Uint8Array(clustersOf(runs) * this.clusterSize)
    padded.set(bytes)
    await writeRuns(this.overlay, runs, this.clusterSize, padded)
  }
}

async function writeBoot(
  device: BlockDevice,
  totalSectors: number,
  places: { mftLcn?: number; mftMirrorLcn?: number },
): Promise<void> {
  const sector = device.logicalSectorSize
  const boot = new Uint8Array(await readBytes(device, 0, sector))
  BOOT_SECTOR.write(boot, { totalSectors, ...places })
  await device.write(0, boot)
  await device.write(totalSectors * sector, boot)
}
