import type { BlockDevice, Extent } from '../block/device'
import { ChangeLog, FrozenMap, type LiveDevice, SnapshotDevice } from '../block/live'
import { MIB } from '../bytes/size'
import { touchedBy } from '../image/touched'

/** What a copy of a running system reads: one moment of it, or, without a snapshot, whatever is there; and what changed. */
export class PointInTimeSource {
  readonly device: BlockDevice
  private readonly log: ChangeLog
  private readonly snapshot: SnapshotDevice | undefined
  private readonly frozen: FrozenMap | undefined

  /**
   * `direct`: ranges that are read as they are, since no snapshot can hold them. `aside`: a device of the same size
   * for what a snapshot keeps.
   */
  constructor(
    private readonly live: LiveDevice,
    snapshotMib: number | null,
    private readonly direct: readonly Extent[],
    aside: BlockDevice,
  ) {
    this.log = new ChangeLog(live)
    this.snapshot =
      snapshotMib === null
        ? undefined
        : new SnapshotDevice(live, { limitBytes: snapshotMib * MIB, except: direct, aside })
    this.frozen = this.snapshot ? undefined : new FrozenMap(live)
    this.device = this.snapshot ?? this.frozen!
  }

  /** Of what moment the copy is, and what was written on the source since it began. */
  async summary() {
    const changed = this.log.changed()
    const { files } = await touchedBy(this.live, changed)
    const directly = changed.some((c) =>
      this.direct.some((d) => c.offset < d.offset + d.length && d.offset < c.offset + c.length),
    )
    return {
      oneMoment: changed.length === 0 || (this.snapshot !== undefined && !directly),
      changedBytes: changed.reduce((sum, e) => sum + e.length, 0),
      files: [...files],
      keptBytes: this.snapshot?.keptBytes ?? 0,
    }
  }

  close(): void {
    this.log.close()
    this.snapshot?.close()
    this.frozen?.close()
  }
}
