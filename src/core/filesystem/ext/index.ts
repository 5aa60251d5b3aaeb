import { type BlockDevice, type Extent, readBytes } from '../../block/device'
import { viewOf } from '../../bytes/struct'
import { BadStructure, NotSupported } from '../../errors'
import type { Finding } from '../../findings'
import { allocate } from '../allocate'
import { NoSuchFile } from '../errors'
import { splitPath } from '../path'
import { readFileBy } from '../entries'
import type { Claim, DirectoryEntry, FileSystem, FileSystemDriver, OpenFile } from '../port'
import { utf8Text } from '../text'
import { blockRuns } from './blocks'
import {
  COMPATIBLE,
  EXT_MAGIC,
  INCOMPATIBLE,
  INODE,
  INODE_INLINE,
  MAX_DIRECTORY_BYTES,
  MODE,
  READ_ONLY,
  ROOT_INODE,
  STATE_CLEAN,
  STATE_ERRORS,
  SUPERBLOCK,
  SUPERBLOCK_OFFSET,
} from './layout'
import { relabelExt } from './label'
import { growExt, mostExtBytes } from './resize'
import { usedBlocks } from './used'
import { type ExtGeometry, type Group, readExtGeometry, readGroups } from './volume'

/** ext2, ext3 and ext4 behind the file-system port. */
export const ext: FileSystemDriver = {
  kind: 'ext',
  name: 'ext',
  relabel: relabelExt,
  async recognise(device) {
    if (device.size < 64 * 1024) return false
    const { magic, incompatible } = SUPERBLOCK.read(await readBytes(device, SUPERBLOCK_OFFSET, 1024))
    return magic === EXT_MAGIC && (incompatible & INCOMPATIBLE.journalDevice) === 0
  },
  async claimedBytes(device) {
    const { blockCountLow, blockCountHigh, logBlockSize, incompatible } = SUPERBLOCK.read(
      await readBytes(device, SUPERBLOCK_OFFSET, 1024),
    )
    if (logBlockSize > 6) return undefined
    const high = (incompatible & INCOMPATIBLE.wide) !== 0 ? blockCountHigh * 2 ** 32 : 0
    return (blockCountLow + high) * 1024 * 2 ** logBlockSize
  },
  open: openExt,
  resizes: 'grows',
  resize: growExt,
}

type Inode = ReturnType<typeof INODE.read> & { readonly number: number; readonly size: number }

const MAX_LINKS = 16
const EXT4_INCOMPATIBLE = INCOMPATIBLE.extents | INCOMPATIBLE.wide | INCOMPATIBLE.flexGroups | INCOMPATIBLE.inlineData
const EXT4_READ_ONLY =
  READ_ONLY.hugeFile |
  READ_ONLY.groupChecksum |
  READ_ONLY.extraInodeSize |
  READ_ONLY.bigClusters |
  READ_ONLY.metadataChecksum

async function openExt(device: BlockDevice): Promise<FileSystem> {
  const geometry = await readExtGeometry(device)
  const groups = await readGroups(device, geometry)
  const { superblock, blockSize, blockCount } = geometry
  const { kind, name } = kindOf(superblock)
  const recover = (superblock.incompatible & INCOMPATIBLE.recover) !== 0
  const dirty = recover || (superblock.state & STATE_CLEAN) === 0 || (superblock.state & STATE_ERRORS) !== 0
  const findings: Finding[] = dirty
    ? [
        {
          severity: 'caution',
          code: 'ext.dirty',
          sentence: recover
            ? 'The journal still holds changes that were not carried out; the volume was in use or not closed cleanly.'
            : superblock.state & STATE_ERRORS
              ? 'The system noted errors on this volume; a check is due before it is copied.'
              : 'The volume was not closed cleanly; a check is due before it is copied.',
          evidence: `State ${superblock.state}, incompatible features ${superblock.incompatible.toString(16)}`,
        },
      ]
    : []

  const files = new ExtFiles(device, geometry, groups)
  return {
    kind,
    name,
    label: utf8Text(superblock.label),
    serial: superblock.uuid,
    clusterSize: blockSize * geometry.clusterBlocks,
    totalBytes: blockCount * blockSize,
    mostBytes: mostExtBytes(geometry),
    anySectors: blockSize >= 4096,
    state: dirty ? 'dirty' : 'clean',
    depth: 'files',
    findings,
    ...(dirty
      ? {
          mapUnsure: recover
            ? 'Its journal holds changes that were not carried out, so its map of used blocks is older than its files.'
            : 'The volume was not closed cleanly, so its map of used blocks may be older than its files.',
        }
      : {}),
    async *metadata(): AsyncGenerator<Extent> {
      yield { offset: 0, length: 4096 }
      const { inodesPerGroup, inodeSize } = geometry
      for (const { blockBitmap, inodeBitmap, inodeTable, unusedInodes } of groups) {
        yield { offset: blockBitmap * blockSize, length: blockSize }
        yield { offset: inodeBitmap * blockSize, length: blockSize }
        const length = (inodesPerGroup - unusedInodes) * inodeSize
        if (length > 0) yield { offset: inodeTable * blockSize, length }
      }
    },
    claims: () => files.claims(),
    async *usedExtents(): AsyncGenerator<Extent> {
      for await (const { offset, length } of usedBlocks(device, geometry, groups)) {
        yield { offset: offset * blockSize, length: length * blockSize }
      }
      const end = blockCount * blockSize
      if (device.size > end) yield { offset: end, length: device.size - end }
    },
    shrunk(usedBytes) {
      // Fewer groups need fewer tables, but files in all parts of the volume need room to be moved together.
      const margin = Math.ceil(usedBytes / 50 / blockSize) * blockSize + 16 * blockSize
      return {
        bytes: Math.min(blockCount * blockSize, usedBytes + margin),
        margin: 'a fiftieth stays free for tables and directories that grow while files move',
      }
    },
    list: (path) => files.list(path),
    stat: (path) => files.stat(path),
    openFile: (path) => files.open(path),
    readFile: readFileBy((path) => files.open(path)),
    fileExtents: (path) => files.extents(path),
  }
}

function kindOf(superblock: ExtGeometry['superblock']): { kind: string; name: string } {
  const four =
    (superblock.incompatible & EXT4_INCOMPATIBLE) !== 0 || (superblock.readOnlyCompatible & EXT4_READ_ONLY) !== 0
  const kind = four ? 'ext4' : superblock.compatible & COMPATIBLE.journal ? 'ext3' : 'ext2'
  return { kind, name: kind }
}

/** Names, inodes and contents. */
class ExtFiles {
  constructor(
    private readonly device: BlockDevice,
    private readonly geometry: ExtGeometry,
    private readonly groups: readonly Group[],
  ) {}

  async list(path: string): Promise<DirectoryEntry[]> {
    const found = await this.find(path)
    if (!found || modeOf(found.inode) !== MODE.directory) throw new NoSuchFile(path)
    const base = splitPath(path)
      .map((part) => `/${part}`)
      .join('')
    const entries: DirectoryEntry[] = []
    for (const { name, inode } of await this.names(found.inode)) {
      entries.push(this.entryOf(name, `${base}/${name}`, await this.inode(inode)))
    }
    return entries
  }

  async stat(path: string): Promise<DirectoryEntry | undefined> {
    const found = await this.find(path)
    return found && this.entryOf(splitPath(path).at(-1) ?? '', path, found.inode)
  }

  async open(path: string): Promise<OpenFile> {
    const inode = await this.file(path)
    return { read: (offset, length) => this.content(inode, offset, length) }
  }

  async extents(path: string): Promise<readonly Extent[]> {
    const inode = await this.file(path)
    if (inode.flags & INODE_INLINE) return []
    const { blockSize } = this.geometry
    const runs = await blockRuns(this.device, this.geometry, inode, Math.ceil(inode.size / blockSize))
    return runs
      .filter((run) => run.disk !== null)
      .map((run) => ({ offset: run.disk! * blockSize, length: run.length * blockSize }))
  }

  /** Every block of every inode that is in use, blocks of block numbers and of extents included. */
  async *claims(): AsyncGenerator<Claim> {
    const { inodesPerGroup, inodeSize, blockSize } = this.geometry
    for (const [index, { inodeTable, unusedInodes }] of this.groups.entries()) {
      const count = inodesPerGroup - unusedInodes
      const perPiece = Math.max(1, Math.floor((1024 * 1024) / inodeSize))
      for (let first = 0; first < count; first += perPiece) {
        const inodes = Math.min(perPiece, count - first)
        const bytes = await readBytes(this.device, inodeTable * blockSize + first * inodeSize, inodes * inodeSize)
        for (let i = 0; i < inodes; i++) {
          const inode = INODE.read(bytes, i * inodeSize)
          const number = index * inodesPerGroup + first + i + 1
          const size = inode.sizeLow + inode.sizeHigh * 2 ** 32
          if (inode.linkCount === 0 || !hasBlocks(inode, size)) continue
          const extents: Extent[] = []
          const own = (block: number) => extents.push({ offset: block * blockSize, length: blockSize })
          for (const run of await blockRuns(this.device, this.geometry, inode, Math.ceil(size / blockSize), own)) {
            if (run.disk !== null) extents.push({ offset: run.disk * blockSize, length: run.length * blockSize })
          }
          yield { extents, name: async () => (await this.pathOf(number)) ?? `inode ${number}` }
        }
      }
    }
  }

  /** A path that leads to an inode, found by looking through the directories. */
  private async pathOf(number: number): Promise<string | undefined> {
    const pending = [{ path: '', inode: ROOT_INODE }]
    const seen = new Set<number>()
    for (let at = pending.pop(); at; at = pending.pop()) {
      if (seen.has(at.inode)) continue
      seen.add(at.inode)
      const directory = await this.inode(at.inode)
      for (const { name, inode } of await this.names(directory)) {
        const path = `${at.path}/${name}`
        if (inode === number) return path
        if (modeOf(await this.inode(inode)) === MODE.directory) pending.push({ path, inode })
      }
    }
    return undefined
  }

  private async file(path: string): Promise<Inode> {
    const found = await this.find(path)
    if (!found || modeOf(found.inode) !== MODE.file) throw new NoSuchFile(path)
    return found.inode
  }

  private entryOf(name: string, path: string, inode: Inode): DirectoryEntry {
    const mode = modeOf(inode)
    const kind =
      mode === MODE.directory ? 'directory' : mode === MODE.file ? 'file' : mode === MODE.link ? 'link' : 'other'
    return { name, path, kind, sizeBytes: kind === 'file' || kind === 'link' ? inode.size : 0 }
  }

  /** Follows a path, links in it included. */
  private async find(path: string): Promise<{ inode: Inode } | undefined> {
    let pending = splitPath(path)
    let trail: Inode[] = [await this.inode(ROOT_INODE)]
    for (let links = 0; pending.length > 0;) {
      const part = pending[0]
      pending = pending.slice(1)
      if (part === '.') continue
      if (part === '..') {
        if (trail.length > 1) trail = trail.slice(0, -1)
        continue
      }
      const here = trail.at(-1)!
      if (modeOf(here) !== MODE.directory) return undefined
      const named = (await this.names(here)).find((n) => n.name === part)
      if (!named) return undefined
      const inode = await this.inode(named.inode)
      if (modeOf(inode) === MODE.link) {
        if (++links > MAX_LINKS) throw new BadStructure('symbolic link', 0, `${path} leads through too many links`)
        const target = utf8Text(await this.linkTarget(inode))
        if (target.startsWith('/')) trail = trail.slice(0, 1)
        pending = [...splitPath(target), ...pending]
        continue
      }
      trail = [...trail, inode]
    }
    return { inode: trail.at(-1)! }
  }

  private async linkTarget(inode: Inode): Promise<Uint8Array> {
    // A short target stands where the block pointers would.
    if (inode.size < 60) return inode.blocks.subarray(0, inode.size)
    return this.content(inode, 0, Math.min(inode.size, 4096))
  }

  private async inode(number: number): Promise<Inode> {
    const { inodesPerGroup, inodeSize, blockSize, superblock, blockCount } = this.geometry
    const group = this.groups[Math.floor((number - 1) / inodesPerGroup)]
    const at = group ? group.inodeTable * blockSize + ((number - 1) % inodesPerGroup) * inodeSize : 0
    if (!group || number < 1 || number > superblock.inodeCount || at + inodeSize > blockCount * blockSize) {
      throw new BadStructure('ext inode', 0, `number ${number} does not exist`)
    }
    const inode = INODE.read(await readBytes(this.device, at, 128))
    const size = inode.sizeLow + inode.sizeHigh * 2 ** 32
    if (!Number.isSafeInteger(size)) throw new BadStructure('ext inode', at, `number ${number} is ${size} bytes long`)
    return { ...inode, number, size }
  }

  private async content(inode: Inode, offset: number, length: number): Promise<Uint8Array> {
    const end = Math.min(offset + length, inode.size)
    if (inode.flags & INODE_INLINE) {
      if (inode.size > 60) throw new NotSupported('This file lies inside its inode in two parts, which is not read.')
      return inode.blocks.slice(offset, Math.max(offset, end))
    }
    const { blockSize } = this.geometry
    const out = allocate(end - offset)
    const runs = await blockRuns(this.device, this.geometry, inode, Math.ceil(end / blockSize))
    for (const run of runs) {
      const start = run.file * blockSize
      const from = Math.max(offset, start)
      const to = Math.min(end, start + run.length * blockSize)
      if (from >= to || run.disk === null) continue
      out.set(await readBytes(this.device, run.disk * blockSize + from - start, to - from), from - offset)
    }
    return out
  }

  /** Names of a directory but for `.` and `..`. A hashed directory reads the same way: its index looks like free room. */
  private async names(directory: Inode): Promise<{ name: string; inode: number }[]> {
    if (directory.size > MAX_DIRECTORY_BYTES) {
      throw new BadStructure('ext directory', 0, `inode ${directory.number} is ${directory.size} bytes long`)
    }
    const bytes = await this.content(directory, 0, directory.size)
    const view = viewOf(bytes)
    // What lies in an inode begins with the number of the parent alone.
    const first = directory.flags & INODE_INLINE ? 4 : 0
    const names: { name: string; inode: number }[] = []
    for (let at = first; at + 8 <= bytes.length;) {
      const inode = view.getUint32(at, true)
      const length = view.getUint16(at + 4, true)
      const nameLength = bytes[at + 6]
      if (length < 8 || length % 4 !== 0 || at + length > bytes.length || nameLength + 8 > length) {
        throw new BadStructure('ext directory', at, `an entry of inode ${directory.number} is ${length} bytes long`)
      }
      if (inode !== 0 && nameLength > 0) {
        const name = utf8Text(bytes.subarray(at + 8, at + 8 + nameLength))
        if (name !== '.' && name !== '..') names.push({ name, inode })
      }
      at += length
    }
    return names
  }
}

/** Whether an inode's block list names blocks: not where its content or a short link stands in it. */
function hasBlocks(inode: ReturnType<typeof INODE.read>, size: number): boolean {
  if (inode.flags & INODE_INLINE) return false
  const mode = inode.mode & MODE.mask
  if (mode === MODE.link) return size >= 60
  return mode === MODE.file || mode === MODE.directory
}

function modeOf(inode: Inode): number {
  return inode.mode & MODE.mask
}
