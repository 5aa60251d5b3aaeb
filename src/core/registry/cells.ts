import { viewOf } from '../bytes/struct'
import { BadStructure, CoreError } from '../errors'
import { BIN_HEADER, HEADER_BYTES, HIVE_HEADER } from './layout'

const BIN_BYTES = 4096

/** The cells of a hive's file in memory: taken, given back, more of them behind the last one where that is asked for. */
export class HiveCells {
  private constructor(
    readonly bytes: Uint8Array,
    /** Where a bin begins that was added and may not be needed; behind the last byte where none was. */
    private readonly spareAt: number,
  ) {}

  /** A copy of a hive's file, with a further bin of at least so many free bytes. */
  static of(file: Uint8Array, spareBytes = 0): HiveCells {
    if (spareBytes === 0) return new HiveCells(file.slice(), file.length)
    const { binsBytes, modified } = HIVE_HEADER.read(file)
    const at = HEADER_BYTES + binsBytes
    if (binsBytes % BIN_BYTES !== 0 || at > file.length)
      throw new BadStructure('registry hive', 40, `its bins would be ${binsBytes} bytes`)
    const size = Math.ceil((spareBytes + BIN_HEADER.size + 8) / BIN_BYTES) * BIN_BYTES
    const bytes = new Uint8Array(at + size)
    bytes.set(file.subarray(0, at))
    BIN_HEADER.write(bytes, { signature: 'hbin', offset: binsBytes, size, modified }, at)
    viewOf(bytes).setInt32(at + BIN_HEADER.size, size - BIN_HEADER.size, true)
    HIVE_HEADER.write(bytes, { binsBytes: binsBytes + size })
    return new HiveCells(bytes, at)
  }

  /** Bytes that a cell in use can hold. */
  roomOf(at: number): number {
    const offset = HEADER_BYTES + at
    if (at % 8 !== 0 || offset + 8 > this.bytes.length)
      throw new BadStructure('registry cell', offset, 'it lies outside the hive')
    const size = -viewOf(this.bytes).getInt32(offset, true)
    if (size < 8 || offset + size > this.bytes.length)
      throw new BadStructure('registry cell', offset, `it is ${size} bytes long`)
    return size - 4
  }

  free(at: number): void {
    const size = this.roomOf(at) + 4
    viewOf(this.bytes).setInt32(HEADER_BYTES + at, size, true)
  }

  /** A cell of its own for these bytes. */
  put(content: Uint8Array): number {
    const at = this.take(content.length)
    this.bytes.set(content, HEADER_BYTES + at + 4)
    return at
  }

  /** A free cell for so many bytes, taken and cleared; the rest of it stays free. Throws CoreError where there is none. */
  take(length: number): number {
    const wanted = Math.ceil((length + 4) / 8) * 8
    // Free cells that lie beside each other become one only where that is needed.
    const at = this.find(wanted, false) ?? this.find(wanted, true)
    if (at === undefined)
      throw new CoreError(`The registry hive has no free room for ${length} bytes. Nothing was changed.`)
    const view = viewOf(this.bytes)
    const size = view.getInt32(HEADER_BYTES + at, true)
    // What is left has to be a cell of its own; less than the smallest one goes along.
    const rest = size - wanted >= 8 ? size - wanted : 0
    view.setInt32(HEADER_BYTES + at, -(size - rest), true)
    if (rest > 0) view.setInt32(HEADER_BYTES + at + size - rest, rest, true)
    this.bytes.fill(0, HEADER_BYTES + at + 4, HEADER_BYTES + at + size - rest)
    return at
  }

  private find(wanted: number, join: boolean): number | undefined {
    const view = viewOf(this.bytes)
    const { binsBytes } = HIVE_HEADER.read(this.bytes)
    const end = Math.min(binsBytes, this.bytes.length - HEADER_BYTES)
    for (let bin = 0; bin < end;) {
      const header = BIN_HEADER.read(this.bytes, HEADER_BYTES + bin)
      const bad = (why: string) => new BadStructure('hive bin', HEADER_BYTES + bin, why)
      if (header.signature !== 'hbin') throw bad('it does not carry its mark')
      if (header.size < BIN_BYTES || header.size % BIN_BYTES !== 0 || bin + header.size > end)
        throw bad(`it is ${header.size} bytes long`)
      const stop = bin + header.size
      const sizeAt = (at: number) => {
        const size = view.getInt32(HEADER_BYTES + at, true)
        const length = Math.abs(size)
        if (length < 8 || length % 8 !== 0 || at + length > stop)
          throw new BadStructure('registry cell', HEADER_BYTES + at, `it is ${length} bytes long`)
        return size
      }
      for (let at = bin + BIN_HEADER.size; at < stop;) {
        let size = sizeAt(at)
        if (join && size > 0) {
          for (let next = at + size; next < stop; next = at + size) {
            const more = sizeAt(next)
            if (more < 0) break
            size += more
          }
          view.setInt32(HEADER_BYTES + at, size, true)
        }
        if (size >= wanted) return at
        at += Math.abs(size)
      }
      bin = stop
    }
    return undefined
  }

  /** The file, without the bin that was added where nothing of it was taken. */
  done(): Uint8Array {
    if (this.spareAt >= this.bytes.length) return this.bytes
    const size = this.bytes.length - this.spareAt
    const unused = viewOf(this.bytes).getInt32(this.spareAt + BIN_HEADER.size, true) === size - BIN_HEADER.size
    if (!unused) return this.bytes
    HIVE_HEADER.write(this.bytes, { binsBytes: this.spareAt - HEADER_BYTES })
    return this.bytes.subarray(0, this.spareAt)
  }
}
