import { type BlockDevice, readBytes } from '../../block/device'
import { sameBytes } from '../../bytes/same'
import { BadStructure } from '../../errors'
import { ATTRIBUTE_TYPES, RECORDS } from './layout'
import { clipRuns, type Run, writeRuns } from './runs'
import type { NtfsVolume } from './volume'

/** Where the file table and the mirror of its first records lie. */
export interface FileTablePlaces {
  readonly table: readonly Run[]
  readonly mirror: readonly Run[]
  /** Records that the mirror holds: as many as fit one cluster, and four at least. */
  readonly mirrorRecords: number
}

/** The places of a volume's file table and mirror, as its own records name them. Throws BadStructure. */
export async function fileTablePlaces(volume: NtfsVolume): Promise<FileTablePlaces> {
  const stream = await volume.stream(await volume.record(RECORDS.mftMirror), ATTRIBUTE_TYPES.data)
  if (!stream) throw new BadStructure('file record 1', volume.recordOffset(RECORDS.mftMirror), 'it has no data')
  const mirrorRecords = Math.min(Math.floor(stream.size / volume.geometry.recordSize), volume.recordCount)
  return { table: volume.tableRuns, mirror: stream.runs, mirrorRecords }
}

/**
 * Writes records of a file table. This is the only way in which a record is changed, because each of the first ones
 * stands a second time in $MFTMirr, and drivers refuse a volume on which the two differ.
 */
export class FileTableWriter {
  constructor(
    readonly device: BlockDevice,
    private readonly geometry: { readonly recordSize: number; readonly clusterSize: number },
    private places: FileTablePlaces,
  ) {}

  /** A writer for a volume that keeps its places. */
  static async of(volume: NtfsVolume): Promise<FileTableWriter> {
    return new FileTableWriter(volume.device, volume.geometry, await fileTablePlaces(volume))
  }

  /** The runs of the table, to which more may be added at its end. */
  get runs(): readonly Run[] {
    return this.places.table
  }

  /** From now on the table lies in these runs. */
  placeTable(table: readonly Run[]): void {
    this.places = { ...this.places, table }
  }

  /** Writes a record, fix-ups applied, and its copy in the mirror where it has one. */
  async write(number: number, bytes: Uint8Array): Promise<void> {
    const { recordSize, clusterSize } = this.geometry
    const offset = number * recordSize
    // A record of a table in pieces may lie in two of them.
    await writeRuns(this.device, this.places.table, clusterSize, bytes, offset)
    if (number < this.places.mirrorRecords) {
      await writeRuns(this.device, this.places.mirror, clusterSize, bytes, offset)
    }
  }

  /** Makes the mirror equal to the records that it mirrors, whatever it held. */
  async refreshMirror(): Promise<void> {
    const { recordSize, clusterSize } = this.geometry
    const { table, mirror, mirrorRecords } = this.places
    const records = await this.read(table, mirrorRecords * recordSize)
    const copy = await this.read(mirror, records.length)
    if (!sameBytes(records, copy)) await writeRuns(this.device, mirror, clusterSize, records)
  }

  private async read(runs: readonly Run[], length: number): Promise<Uint8Array> {
    const { clusterSize } = this.geometry
    const bytes = new Uint8Array(length)
    let at = 0
    for (const { lcn, length: clusters } of clipRuns(runs, 0, Math.ceil(length / clusterSize))) {
      const part = Math.min(clusters * clusterSize, length - at)
      if (lcn !== null) bytes.set(await readBytes(this.device, lcn * clusterSize, part), at)
      at += part
    }
    return bytes
  }
}
