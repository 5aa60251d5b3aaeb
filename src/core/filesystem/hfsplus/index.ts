import { type BlockDevice, type Extent, readBytes } from '../../block/device'
import { viewOf } from '../../bytes/struct'
import { BadStructure } from '../../errors'
import type { Finding } from '../../findings'
import { allocate } from '../allocate'
import { setBitRuns } from '../bitmap'
import { entriesBelow, readFileBy, statBy } from '../entries'
import { NoSuchFile } from '../errors'
import { splitPath } from '../path'
import type { Claim, FileSystem, FileSystemDriver, OpenFile } from '../port'
import {
  ATTRIBUTE_EXTENTS,
  ATTRIBUTE_FORK,
  ATTRIBUTE_INCONSISTENT,
  ATTRIBUTE_JOURNALED,
  ATTRIBUTE_RUNS,
  ATTRIBUTE_UNMOUNTED,
  FILE_DATA_FORK,
  FILE_RECORD,
  FILE_RESOURCE_FORK,
  FOLDER_RECORD,
  FORK,
  FORK_TYPES,
  FORKS,
  HEADER_OFFSET,
  ID,
  RECORD_FILE,
  RECORD_FOLDER,
  VOLUME_HEADER,
} from './layout'
import { Tree } from './tree'

/** HFS+ (and its case-sensitive form) behind the file-system port. */
export const hfsplus: FileSystemDriver = {
  kind: 'hfsplus',
  name: 'HFS+',
  async recognise(device) {
    if (device.size < 512 * 1024) return false
    const { signature, version } = VOLUME_HEADER.read(await readBytes(device, HEADER_OFFSET, 512))
    return (signature === 'H+' && version === 4) || (signature === 'HX' && version === 5)
  },
  open: openHfsPlus,
}

interface Fork {
  readonly size: number
  /** Runs of allocation blocks, in order; all of them. */
  readonly runs: readonly Run[]
}

interface Run {
  readonly start: number
  readonly count: number
}

interface Named {
  readonly name: string
  readonly isDirectory: boolean
  readonly sizeBytes: number
  readonly id: number
  readonly fork?: { readonly size: number; readonly blocks: number; readonly extents: Uint8Array }
}

async function openHfsPlus(device: BlockDevice): Promise<FileSystem> {
  const bytes = await readBytes(device, HEADER_OFFSET, 512)
  const header = VOLUME_HEADER.read(bytes)
  const { blockSize, totalBlocks, attributes } = header
  const bad = (why: string) => new BadStructure('HFS+ volume header', HEADER_OFFSET, why)
  if (blockSize < 512 || blockSize > 1024 * 1024 || !Number.isInteger(Math.log2(blockSize))) {
    throw bad(`it gives blocks of ${blockSize} bytes`)
  }
  const totalBytes = totalBlocks * blockSize
  if (totalBlocks === 0 || totalBytes > device.size + blockSize) throw bad(`it claims ${totalBlocks} blocks`)
  // The extents file itself must do with the runs in the header.
  let overflow: Tree | undefined
  const special = (at: number, id: number, name: string): Promise<Fork> => forkOf(FORK.read(bytes, at), id, name)
  const allocation = await special(FORKS.allocation, ID.allocation, 'the allocation file')
  if (allocation.size * 8 < totalBlocks) throw bad('its allocation file does not cover its blocks')
  const extents = await special(FORKS.extents, ID.extents, 'the extents file')
  if (extents.size > 0) overflow = await Tree.open('HFS+ extents file', reader(extents), extents.size)
  const catalogFork = await special(FORKS.catalog, ID.catalog, 'the catalog')
  const catalog = await Tree.open('HFS+ catalog', reader(catalogFork), catalogFork.size)

  const dirty = (attributes & ATTRIBUTE_UNMOUNTED) === 0 || (attributes & ATTRIBUTE_INCONSISTENT) !== 0
  const findings: Finding[] = dirty
    ? [
        {
          severity: 'caution',
          code: 'hfsplus.dirty',
          sentence: 'The volume was not closed cleanly; a check is due before it is copied.',
          evidence: `Attributes ${attributes.toString(16).padStart(8, '0')}${attributes & ATTRIBUTE_JOURNALED ? ', with a journal' : ''}`,
        },
      ]
    : []

  /** The runs of an extent record, up to the first that is empty. */
  function* runsOf(list: Uint8Array, name: string): Generator<Run> {
    const view = viewOf(list)
    for (let i = 0; i + 8 <= list.length; i += 8) {
      const run = { start: view.getUint32(i), count: view.getUint32(i + 4) }
      if (run.count === 0) return
      if (run.start + run.count > totalBlocks) throw bad(`${name} leaves the volume`)
      yield run
    }
  }

  /** All runs of a fork: the eight in its record, then those of the extents file. */
  async function forkOf(
    fork: { size: number; blocks: number; extents: Uint8Array },
    id: number,
    name: string,
    type: number = FORK_TYPES.data,
  ): Promise<Fork> {
    const runs: Run[] = []
    let blocks = 0
    const add = (list: Uint8Array) => {
      for (const run of runsOf(list, name)) {
        if (blocks >= fork.blocks) return
        runs.push(run)
        blocks += run.count
      }
    }
    add(fork.extents)
    if (blocks < fork.blocks && overflow) {
      // Key: fork type, file, first block of the run in the fork.
      const below = (key: Uint8Array) => compare([viewOf(key).getUint32(2), key[0]], [id, type]) < 0
      for await (const { key, data } of overflow.from((key) => key.length >= 10 && below(key))) {
        if (key.length < 10 || viewOf(key).getUint32(2) !== id || key[0] !== type) break
        add(data.subarray(0, 64))
      }
    }
    if (blocks < fork.blocks || blocks * blockSize < fork.size) throw bad(`${name} lacks some of its blocks`)
    return { size: fork.size, runs }
  }

  function reader(fork: Fork) {
    return async (offset: number, length: number): Promise<Uint8Array> => {
      const end = Math.min(offset + length, fork.size)
      const out = allocate(end - offset)
      let start = 0
      for (const run of fork.runs) {
        const runBytes = run.count * blockSize
        const from = Math.max(offset, start)
        const to = Math.min(end, start + runBytes)
        if (from < to) out.set(await readBytes(device, run.start * blockSize + from - start, to - from), from - offset)
        start += runBytes
        if (start >= end) break
      }
      return out
    }
  }

  async function children(parent: number): Promise<Named[]> {
    const found: Named[] = []
    const below = (key: Uint8Array) => key.length < 6 || viewOf(key).getUint32(0) < parent
    for await (const { key, data } of catalog.from(below)) {
      if (viewOf(key).getUint32(0) !== parent) break
      const { own: name } = keyOf(key)
      if (name === undefined || data.length < 2) continue
      const type = viewOf(data).getUint16(0)
      if (type === RECORD_FOLDER) {
        found.push({ name, isDirectory: true, sizeBytes: 0, id: FOLDER_RECORD.read(data).id })
      } else if (type === RECORD_FILE) {
        const fork = FORK.read(data, FILE_DATA_FORK)
        found.push({ name, isDirectory: false, sizeBytes: fork.size, id: FILE_RECORD.read(data).id, fork })
      }
    }
    return found
  }

  const root: Named = { name: '', isDirectory: true, sizeBytes: 0, id: ID.root }
  async function find(path: string): Promise<Named> {
    let at = root
    for (const part of splitPath(path)) {
      if (!at.isDirectory) throw new NoSuchFile(path)
      const wanted = part.normalize('NFC').toLowerCase()
      const next = (await children(at.id)).find((n) => n.name.toLowerCase() === wanted)
      if (!next) throw new NoSuchFile(path)
      at = next
    }
    return at
  }

  /** Where a folder lies, by the thread records that lead upwards. */
  async function pathOf(id: number): Promise<string> {
    const names: string[] = []
    for (let at = id; at !== ID.root;) {
      const below = (key: Uint8Array) => key.length < 6 || viewOf(key).getUint32(0) < at
      let up: { parent: number; name: string } | undefined
      for await (const { key, data } of catalog.from(below)) {
        // A thread's key has no name, so that it comes first.
        if (viewOf(key).getUint32(0) === at && viewOf(key).getUint16(4) === 0 && data.length >= 10) {
          const view = viewOf(data)
          const length = Math.min(view.getUint16(8), (data.length - 10) >> 1)
          const units = Array.from({ length }, (_, i) => view.getUint16(10 + i * 2))
          up = { parent: view.getUint32(4), name: shownName(String.fromCharCode(...units)) }
        }
        break
      }
      if (!up || names.length > 64) throw bad(`its start folder ${id} leads nowhere`)
      names.unshift(up.name)
      at = up.parent
    }
    return `/${names.join('/')}`
  }

  /** What the volume keeps for itself, and blocks that are bad. */
  async function* ownClaims(): AsyncGenerator<Claim> {
    const claim = (runs: readonly Run[], name: string): Claim => ({ extents: extentsOf(runs), name: async () => name })
    for (const [fork, name] of [
      [allocation, 'the map itself'],
      [extents, 'the extents file'],
      [catalogFork, 'the catalog'],
      [await special(FORKS.startup, ID.startup, 'the start-up file'), 'the start-up file'],
    ] as const) {
      yield claim(fork.runs, name)
    }
    const attributesFork = await special(FORKS.attributes, ID.attributes, 'the attributes file')
    yield claim(attributesFork.runs, 'the attributes file')
    if (attributesFork.size > 0) {
      const tree = await Tree.open('HFS+ attributes file', reader(attributesFork), attributesFork.size)
      for await (const { data } of tree.from(() => false)) {
        const type = data.length >= ATTRIBUTE_RUNS + 64 ? viewOf(data).getUint32(0) : 0
        const name = 'an extended attribute'
        if (type === ATTRIBUTE_EXTENTS)
          yield claim([...runsOf(data.subarray(ATTRIBUTE_RUNS, ATTRIBUTE_RUNS + 64), name)], name)
        if (type !== ATTRIBUTE_FORK || data.length < ATTRIBUTE_RUNS + FORK.size) continue
        const { extents: own } = FORK.read(data, ATTRIBUTE_RUNS)
        yield claim([...runsOf(own, name)], name)
      }
    }
    const below = (key: Uint8Array) => key.length >= 10 && viewOf(key).getUint32(2) < ID.badBlocks
    if (overflow) {
      for await (const { key, data } of overflow.from(below)) {
        if (key.length < 10 || viewOf(key).getUint32(2) !== ID.badBlocks) break
        yield claim([...runsOf(data.subarray(0, 64), 'bad blocks')], 'bad blocks')
      }
    }
  }

  const extentsOf = (runs: readonly Run[]): Extent[] =>
    runs.map((run) => ({ offset: run.start * blockSize, length: run.count * blockSize }))

  async function fileFork(path: string): Promise<Fork> {
    const at = await find(path)
    if (!at.fork) throw new NoSuchFile(path)
    return forkOf(at.fork, at.id, path)
  }

  async function openFile(path: string): Promise<OpenFile> {
    return { read: reader(await fileFork(path)) }
  }

  // The root folder's record is filed under a parent of its own, by the volume's name.
  const label = (await children(ID.rootParent)).find((n) => n.id === ID.root)?.name ?? ''
  return {
    kind: 'hfsplus',
    name: header.signature === 'HX' ? 'HFSX' : 'HFS+',
    label,
    serial: header.volumeId.toString(16).toUpperCase().padStart(16, '0'),
    clusterSize: blockSize,
    totalBytes: Math.min(totalBytes, device.size),
    state: dirty ? 'dirty' : 'clean',
    depth: 'files',
    tailBytes: blockSize,
    findings,
    ...(dirty
      ? { mapUnsure: 'The volume was not closed cleanly, so its map of used blocks may be older than its files.' }
      : {}),
    async *claims(): AsyncGenerator<Claim> {
      yield* ownClaims()
      for await (const { key, data } of catalog.from(() => false)) {
        if (key.length < 6 || data.length < FILE_RECORD.size || viewOf(data).getUint16(0) !== RECORD_FILE) continue
        const { id } = FILE_RECORD.read(data)
        const forks = [
          await forkOf(FORK.read(data, FILE_DATA_FORK), id, `file ${id}`),
          await forkOf(FORK.read(data, FILE_RESOURCE_FORK), id, `file ${id}`, FORK_TYPES.resource),
        ]
        const name = async () => {
          const { parent, own } = keyOf(key)
          return parent === ID.root ? `/${own}` : `${await pathOf(parent)}/${own}`
        }
        yield { extents: forks.flatMap((fork) => extentsOf(fork.runs)), name }
      }
    },
    async *metadata(): AsyncGenerator<Extent> {
      yield { offset: 0, length: HEADER_OFFSET + 512 }
      for (const { start, count } of [allocation, extents, catalogFork].flatMap((fork) => fork.runs)) {
        yield { offset: start * blockSize, length: Math.min(count * blockSize, device.size - start * blockSize) }
      }
    },
    async *usedExtents(): AsyncGenerator<Extent> {
      // In this bitmap the highest bit of a byte comes first.
      const read = async (offset: number, into: Uint8Array) =>
        into.set(mirrored(await reader(allocation)(offset, into.length)))
      for await (const run of setBitRuns(read, totalBlocks)) {
        const offset = run.offset * blockSize
        yield { offset, length: Math.min(run.length * blockSize, device.size - offset) }
      }
      if (device.size > totalBytes) yield { offset: totalBytes, length: device.size - totalBytes }
    },
    shrunk: (usedBytes) => ({
      bytes: Math.min(totalBytes, usedBytes + Math.ceil(usedBytes / 50 / blockSize) * blockSize),
      margin: 'a fiftieth stays free for its trees',
    }),
    async list(path) {
      const at = await find(path)
      if (!at.isDirectory) throw new NoSuchFile(path)
      return entriesBelow(path, await children(at.id))
    },
    stat: (path) => statBy(find, path),
    openFile,
    readFile: readFileBy(openFile),
    async startLoader() {
      // "Volume Header", finderInfo: the folder with the system's loader, or the one of a system that is no longer used.
      const id = header.systemFolderX || header.systemFolder
      if (id === 0) return undefined
      const folder = await pathOf(id)
      const loader = (await children(id)).find((n) => n.name.toLowerCase() === 'boot.efi' && !n.isDirectory)
      if (!loader) return { what: `the folder ${folder}, which has no boot.efi`, sizeBytes: 0 }
      return { what: `the folder ${folder}`, path: `${folder}/${loader.name}`, sizeBytes: loader.sizeBytes }
    },
    async fileExtents(path) {
      return extentsOf((await fileFork(path)).runs)
    },
  }
}

const MIRROR = Uint8Array.from({ length: 256 }, (_, byte) => {
  let mirrored = 0
  for (let bit = 0; bit < 8; bit++) if (byte & (1 << bit)) mirrored |= 0x80 >> bit
  return mirrored
})

function mirrored(bytes: Uint8Array): Uint8Array {
  return bytes.map((byte) => MIRROR[byte])
}

function compare(a: readonly number[], b: readonly number[]): number {
  for (let i = 0; i < a.length; i++) if (a[i] !== b[i]) return a[i] - b[i]
  return 0
}

/** A catalog key: the folder it is in and its name; that is undefined where it does not fit into the key. */
function keyOf(key: Uint8Array): { parent: number; own: string | undefined } {
  const view = viewOf(key)
  const length = view.getUint16(4)
  if (6 + length * 2 > key.length) return { parent: view.getUint32(0), own: undefined }
  const units = Array.from({ length }, (_, i) => view.getUint16(6 + i * 2))
  return { parent: view.getUint32(0), own: shownName(String.fromCharCode(...units)) }
}

/** What stands for a slash on the screen is a colon to the system below, and the other way round. */
function shownName(name: string): string {
  return name.replaceAll('/', ':').normalize('NFC')
}
