import { viewOf } from '../../bytes/struct'
import type { ImageStore } from '../store'

const PAGE = 64 * 1024

/** A table that is held in memory as a whole, of which what was changed is written. */
export class WholeTable {
  readonly bytes: Uint8Array
  readonly view: DataView
  private readonly changed = new Set<number>()

  /** `fill`: the byte that an empty table is made of. */
  constructor(
    private readonly at: number,
    length: number,
    private readonly fill = 0,
  ) {
    this.bytes = new Uint8Array(length).fill(fill)
    this.view = viewOf(this.bytes)
    if (fill !== 0) this.touchAll()
  }

  /** Says that bytes from `offset` on, no more than eight, were changed. */
  touch(offset: number): void {
    this.changed.add(Math.floor(offset / PAGE))
  }

  clear(): void {
    this.bytes.fill(this.fill)
    this.touchAll()
  }

  async load(store: ImageStore): Promise<void> {
    await store.read(this.at, this.bytes)
    this.changed.clear()
  }

  async save(store: ImageStore): Promise<void> {
    for (const page of [...this.changed].sort((a, b) => a - b)) {
      this.changed.delete(page)
      await store.write(this.at + page * PAGE, this.bytes.slice(page * PAGE, (page + 1) * PAGE))
    }
  }

  private touchAll(): void {
    for (let page = 0; page * PAGE < this.bytes.length; page++) this.changed.add(page)
  }
}

/** So many bytes of pages are held in memory. */
const HELD_BYTES = 8 * 1024 * 1024

interface Page {
  readonly view: DataView
  readonly at: number
  changed: boolean
}

/** Tables of a second level, of one length, wherever they stand in the file; the last ones that were used are held. */
export class TablePages {
  private readonly held = new Map<number, Page>()

  constructor(
    private readonly store: ImageStore,
    private readonly pageBytes: number,
  ) {}

  /** The page of a number that is held; undefined where it has to be read first. */
  now(number: number): DataView | undefined {
    return this.held.get(number)?.view
  }

  /** The page that stands at byte `at` of the file. */
  async read(number: number, at: number): Promise<DataView> {
    const held = this.held.get(number)
    if (held) return held.view
    const bytes = new Uint8Array(this.pageBytes)
    await this.store.read(at, bytes)
    return this.hold(number, at, bytes)
  }

  /** A new, empty page that stands at byte `at`. */
  async add(number: number, at: number): Promise<DataView> {
    const view = await this.hold(number, at, new Uint8Array(this.pageBytes))
    this.touch(number)
    return view
  }

  /** Says that a page that is held was changed. */
  touch(number: number): void {
    const page = this.held.get(number)
    if (page) page.changed = true
  }

  forget(): void {
    this.held.clear()
  }

  async save(): Promise<void> {
    for (const page of this.held.values()) await this.write(page)
  }

  private async hold(number: number, at: number, bytes: Uint8Array): Promise<DataView> {
    if ((this.held.size + 1) * this.pageBytes > HELD_BYTES) {
      const [first, page] = this.held.entries().next().value!
      await this.write(page)
      this.held.delete(first)
    }
    const page = { view: viewOf(bytes), at, changed: false }
    this.held.set(number, page)
    return page.view
  }

  private async write(page: Page): Promise<void> {
    if (!page.changed) return
    page.changed = false
    await this.store.write(page.at, new Uint8Array(page.view.buffer.slice(0)))
  }
}
