import { type FileHandle, open } from 'node:fs/promises'
import { CHUNK_BYTES, chunkSteps } from '@/core/block/chunks'
import { type BlockDevice, checkRange, type Extent, ReadOnlyDevice } from '@/core/block/device'
import { CoreError } from '@/core/errors'
import { HostFull } from '@/host/errors'
import { closeWritten, readFileBytes, writeFileBytes } from '@/host/file-bytes'
import { dataExtents } from '@/host/holes'
import { syncFolderOf } from '@/host/sync-folder'
import { bitRunsOf, setBits } from '@/core/filesystem/bitmap'

export interface SparseFileOptions {
  readonly writable: boolean
  readonly logicalSectorSize?: 512 | 4096
  readonly physicalSectorSize?: number
}

const MAP_MAGIC = 'IMBARCOMAP1'
const HEADER_BYTES = 64

/**
 * A drive kept in a sparse file of its full capacity. Beside it lies a map with one bit for each 64 KiB that
 * was ever written, which is the drive's provisioning status. A bit is stored before the bytes it stands
 * for, so a power cut leaves the map saying too much rather than too little; and a map whose file was
 * changed behind its back is not believed.
 */
export class SparseFileDevice implements BlockDevice {
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  private dirty = false
  private failure: { readonly error: unknown } | undefined

  private constructor(
    private readonly file: FileHandle,
    private readonly mapFile: FileHandle | undefined,
    private readonly map: Uint8Array,
    readonly size: number,
    private readonly options: SparseFileOptions,
  ) {
    this.logicalSectorSize = options.logicalSectorSize ?? 512
    this.physicalSectorSize = options.physicalSectorSize ?? 4096
  }

  /** Makes an empty drive. Rejects when the file is there already. */
  static async create(
    path: string,
    sizeBytes: number,
    options: Omit<SparseFileOptions, 'writable'> = {},
  ): Promise<SparseFileDevice> {
    const file = await open(path, 'wx+')
    try {
      await file.truncate(sizeBytes)
      const mapFile = await open(mapPath(path), 'w+')
      const device = new SparseFileDevice(file, mapFile, emptyMap(sizeBytes), sizeBytes, { ...options, writable: true })
      await mapFile.write(device.map, 0, device.map.length, HEADER_BYTES)
      await device.seal()
      await syncFolderOf(path)
      return device
    } catch (error) {
      await file.close()
      throw hostError(error)
    }
  }

  /** Opens a drive. A source is opened without `writable`, and its file with it. */
  static async open(path: string, options: SparseFileOptions): Promise<SparseFileDevice> {
    const file = await open(path, options.writable ? 'r+' : 'r')
    const { size, mtimeMs } = await file.stat()
    const map = emptyMap(size)
    const mapFile = await open(mapPath(path), options.writable ? 'r+' : 'r').catch(() => undefined)
    const trusted = mapFile !== undefined && (await readMap(mapFile, map, size, mtimeMs))
    if (!trusted) await mapFromHoles(file, map, size)
    if (!options.writable) await mapFile?.close()
    const device = new SparseFileDevice(file, options.writable ? mapFile : undefined, map, size, options)
    if (!trusted && options.writable && mapFile) await mapFile.write(map, 0, map.length, HEADER_BYTES)
    return device
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    if (!this.anyMapped(offset, into.length)) {
      into.fill(0)
      return
    }
    const done = await readFileBytes(this.file, offset, into)
    if (done < into.length) throw new CoreError('The drive’s file is shorter than the drive.')
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    if (!this.options.writable) throw new ReadOnlyDevice()
    checkRange(this, offset, from.length)
    try {
      await this.mark(offset, from.length)
      await writeFileBytes(this.file, offset, from)
    } catch (error) {
      throw hostError(error)
    }
  }

  async flush(): Promise<void> {
    if (this.failure) throw this.failure.error
    if (!this.dirty) return
    // What is written from here on is not stored by this flush, so it counts as unstored whatever comes of it.
    this.dirty = false
    try {
      await this.file.datasync()
      // The head of the map speaks for its bits, which must be stored before it.
      await this.mapFile?.datasync()
      await this.seal()
    } catch (error) {
      // The host reports an error of storing once only; from then on nobody knows what is on the medium.
      this.failure = { error: hostError(error) }
      throw this.failure.error
    }
  }

  async discard(offset: number, length: number): Promise<void> {
    if (!this.options.writable) throw new ReadOnlyDevice()
    checkRange(this, offset, length)
    try {
      if (offset + length === this.size) await this.cutTail(offset)
      else await this.zero(offset, length)
    } catch (error) {
      throw hostError(error)
    }
  }

  async mapped(offset: number, length: number): Promise<readonly Extent[]> {
    return this.written(offset, length)
  }

  /** Bytes that the drive takes on the host now. */
  async hostBytes(): Promise<number> {
    const { blocks } = await this.file.stat()
    // Blocks are counted in 512 bytes whatever the file system's own are.
    return blocks * 512
  }

  async close(): Promise<void> {
    if (this.dirty) await this.seal()
    await this.mapFile?.close()
    await closeWritten(this.file)
  }

  /** Forgets everything from `offset` to the end by cutting the file there and making it long again. */
  private async cutTail(offset: number): Promise<void> {
    const firstWhole = Math.ceil(offset / CHUNK_BYTES)
    const edge = Math.min(firstWhole * CHUNK_BYTES, this.size) - offset
    if (edge > 0) await this.zero(offset, edge)
    this.dirty = true
    await this.file.truncate(Math.min(firstWhole * CHUNK_BYTES, this.size))
    await this.file.truncate(this.size)
    const bits = Math.ceil(this.size / CHUNK_BYTES)
    if (bits > firstWhole) setBits(this.map, firstWhole, bits - firstWhole, false)
    await this.mapFile?.write(this.map, 0, this.map.length, HEADER_BYTES)
  }

  private async zero(offset: number, length: number): Promise<void> {
    const zeros = new Uint8Array(CHUNK_BYTES)
    for (const written of this.written(offset, length)) {
      this.dirty = true
      for (const { index, from, to } of chunkSteps(written.offset, written.length)) {
        await this.file.write(zeros, 0, to - from, index * CHUNK_BYTES + from)
        if (to - from === CHUNK_BYTES) setBits(this.map, index, 1, false)
      }
    }
    await this.mapFile?.write(this.map, 0, this.map.length, HEADER_BYTES)
  }

  private async mark(offset: number, length: number): Promise<void> {
    const first = Math.floor(offset / CHUNK_BYTES)
    const last = Math.floor((offset + length - 1) / CHUNK_BYTES)
    this.dirty = true
    let fresh = false
    for (let index = first; index <= last && !fresh; index++) fresh = !this.bit(index)
    if (!fresh) return
    setBits(this.map, first, last - first + 1)
    const from = first >> 3
    await this.mapFile?.write(this.map, from, (last >> 3) - from + 1, HEADER_BYTES + from)
  }

  /** Notes in the map's head which state of the file it speaks of. */
  private async seal(): Promise<void> {
    const { mtimeMs } = await this.file.stat()
    const header = new Uint8Array(HEADER_BYTES)
    for (let i = 0; i < MAP_MAGIC.length; i++) header[i] = MAP_MAGIC.charCodeAt(i)
    const view = new DataView(header.buffer)
    view.setFloat64(16, this.size, true)
    view.setFloat64(24, mtimeMs, true)
    await this.mapFile?.write(header, 0, HEADER_BYTES, 0)
  }

  /** The parts of a range whose chunks were written. */
  private written(offset: number, length: number): Extent[] {
    if (length <= 0) return []
    const end = offset + length
    // From a word's edge, since a map is read fastest by words.
    const firstByte = Math.floor(offset / CHUNK_BYTES / 32) * 4
    const before = firstByte * 8
    return bitRunsOf(this.map.subarray(firstByte), Math.ceil(end / CHUNK_BYTES) - before).flatMap((run) => {
      const start = Math.max(offset, (before + run.offset) * CHUNK_BYTES)
      const stop = Math.min(end, (before + run.offset + run.length) * CHUNK_BYTES)
      return start < stop ? [{ offset: start, length: stop - start }] : []
    })
  }

  private anyMapped(offset: number, length: number): boolean {
    const last = Math.floor((offset + length - 1) / CHUNK_BYTES)
    for (let index = Math.floor(offset / CHUNK_BYTES); index <= last; index++) if (this.bit(index)) return true
    return false
  }

  private bit(index: number): boolean {
    return ((this.map[index >> 3] >> (index & 7)) & 1) === 1
  }
}

function mapPath(path: string): string {
  return `${path}.map`
}

function emptyMap(size: number): Uint8Array {
  return new Uint8Array(Math.ceil(size / CHUNK_BYTES / 8))
}

/** Says of a file whose map is not to be believed what the host knows of it; too much rather than too little. */
async function mapFromHoles(file: FileHandle, map: Uint8Array, size: number): Promise<void> {
  const extents = await dataExtents(file.fd, 0, size)
  map.fill(extents ? 0 : 0xff)
  for (const { offset, length } of extents ?? []) {
    const first = Math.floor(offset / CHUNK_BYTES)
    setBits(map, first, Math.floor((offset + length - 1) / CHUNK_BYTES) - first + 1)
  }
}

async function readMap(mapFile: FileHandle, map: Uint8Array, size: number, mtimeMs: number): Promise<boolean> {
  const header = new Uint8Array(HEADER_BYTES)
  const head = await mapFile.read(header, 0, HEADER_BYTES, 0)
  const view = new DataView(header.buffer)
  const magic = String.fromCharCode(...header.subarray(0, MAP_MAGIC.length))
  if (head.bytesRead < HEADER_BYTES || magic !== MAP_MAGIC) return false
  if (view.getFloat64(16, true) !== size || view.getFloat64(24, true) !== mtimeMs) return false
  const { bytesRead } = await mapFile.read(map, 0, map.length, HEADER_BYTES)
  return bytesRead === map.length
}

function hostError(error: unknown): unknown {
  const code = (error as NodeJS.ErrnoException | undefined)?.code
  return code === 'ENOSPC' || code === 'EDQUOT' || code === 'EFBIG' ? new HostFull() : error
}
