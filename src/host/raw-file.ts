import { FlatDisk } from '@/core/image/target/flat'
import { HostStore } from './host-store'

/** A raw image of this host that is written, sparse where nothing was. */
export class RawFile extends FlatDisk {
  private constructor(
    private readonly file: HostStore,
    sectorSize: 512 | 4096,
  ) {
    super(file, file.size, sectorSize)
  }

  /** Makes a new file that reads as zeros. Rejects with NoFile when the name is taken. */
  static async create(file: string, size: number, sectorSize: 512 | 4096): Promise<RawFile> {
    return new RawFile(await HostStore.create(file, size), sectorSize)
  }

  /** Opens one that is there, to go on writing it. Rejects with NoFile. */
  static async open(file: string, sectorSize: 512 | 4096): Promise<RawFile> {
    return new RawFile(await HostStore.open(file), sectorSize)
  }

  close(): Promise<void> {
    return this.file.close()
  }
}
