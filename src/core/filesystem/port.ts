import type { BlockDevice, Extent } from '../block/device'
import type { Finding } from '../findings'
import type { FileKeeper } from './keeper'

/** What a directory names. `path` uses `/` and starts with it; names keep the case the disk stores. */
export interface DirectoryEntry {
  readonly name: string
  readonly path: string
  /** `link`: a symbolic link. `other`: a device, socket or pipe. */
  readonly kind: 'file' | 'directory' | 'link' | 'other'
  readonly sizeBytes: number
}

/**
 * Clean: closed properly. Dirty: in use or not closed, so a check is due. Damaged: its own records contradict
 * each other. Unknown: it does not say, or cannot be looked into.
 */
export type VolumeState = 'clean' | 'dirty' | 'damaged' | 'unknown'

/**
 * How far this program sees into a volume. `files`: its files and which blocks are used. `map`: which blocks
 * are used. `sealed`: nothing, so that only an every-sector copy of it is honest.
 */
export type Depth = 'files' | 'map' | 'sealed'

/** The least a volume could be made with its files moved together, and why not less. */
export interface Shrunk {
  readonly bytes: number
  readonly margin: string
}

/** What one file or structure uses of a volume. */
export interface Claim {
  readonly extents: readonly Extent[]
  /** Looked up only when it is needed: a path, or what it is. */
  name(): Promise<string>
}

/** An opened volume. All offsets are bytes from the volume's first sector. */
export interface FileSystem {
  readonly kind: string
  /** The kind as the trade writes it: `NTFS`, `FAT32`. */
  readonly name: string
  readonly label: string
  /** Serial or UUID as the system shows it. */
  readonly serial: string
  readonly clusterSize: number
  /** Byte of the volume at which its first cluster begins; 0 where absent. */
  readonly clusterOrigin?: number
  /** Bytes the file system claims, which may be less than the partition. */
  readonly totalBytes: number
  readonly state: VolumeState
  readonly depth: Depth
  /** The content is ciphertext. */
  readonly encrypted?: boolean
  /** Bytes at its end that hold a copy of its header and move with the end; 0 where there is none. */
  readonly tailBytes?: number
  readonly findings: readonly Finding[]
  /** Runs that hold something, boot sectors and their copies included, in order; read in bounded memory. */
  usedExtents(): AsyncIterable<Extent>
  /**
   * Runs that hold what the volume keeps about its files: tables, maps, directories. Any change to a file changes
   * some of it. Absent where the kind cannot tell.
   */
  metadata?(): AsyncIterable<Extent>
  /**
   * All that its records say is used, file by file, without asking its map: what the map is held against. Absent where
   * the kind cannot tell.
   */
  claims?(): AsyncIterable<Claim>
  /**
   * Why its map of used blocks must not be relied on, as a sentence: the map may be older than the files. Every sector
   * of such a volume is copied, and its size is not changed. Absent where the map holds.
   */
  readonly mapUnsure?: string
  /** The most bytes that the kind can be made to hold, where that is less than any drive. */
  readonly mostBytes?: number
  /** The sectors of the drive do not matter to it, so that it can go to a drive with others. */
  readonly anySectors?: boolean
  /** What relocating could reach, given the bytes in use. Absent where nobody could shrink it. */
  shrunk?(usedBytes: number): Shrunk
  /** Entries of a directory. Rejects with NoSuchFile. */
  list(path: string): Promise<DirectoryEntry[]>
  /** What stands at a path, or undefined. */
  stat(path: string): Promise<DirectoryEntry | undefined>
  /** Follows the path of a file that is read in parts. Rejects with NoSuchFile. */
  openFile(path: string): Promise<OpenFile>
  /** The same for one part of it, at most `length` bytes from `offset`. */
  readFile(path: string, offset?: number, length?: number): Promise<Uint8Array>
  /** The runs of a file's content on the volume, where the kind can tell; used to name what a place belongs to. */
  fileExtents?(path: string): Promise<readonly Extent[]>
  /** The loader that the volume's own header names, for kinds that can be started from by themselves. */
  startLoader?(): Promise<StartLoader | undefined>
}

/** A file that was found. What its directories come to say later is not asked again. */
export interface OpenFile {
  /** At most `length` bytes from `offset`. */
  read(offset: number, length: number): Promise<Uint8Array>
}

/** What firmware that reads a volume itself would start on it. */
export interface StartLoader {
  /** In words, as the end of "The header names …". */
  readonly what: string
  /** The loader's file, where it is one. */
  readonly path?: string
  readonly sizeBytes: number
}

/** One kind of file system. A new kind is one more of these in the registry. */
export interface FileSystemDriver {
  readonly kind: string
  /** The kind as the trade writes it, for a volume that cannot be opened. */
  readonly name: string
  /** Looks at the first sectors only. */
  recognise(device: BlockDevice): Promise<boolean>
  /** Bytes that the volume's own header claims, whatever there is of it; undefined where it does not say. */
  claimedBytes?(device: BlockDevice): Promise<number | undefined>
  /** Rejects with BadStructure when the volume's own records are damaged. */
  open(device: BlockDevice): Promise<FileSystem>
  /** Gives the volume another label; an empty one takes it away. Rejects with CoreError for one that the kind cannot have. */
  relabel?(device: BlockDevice, label: string): Promise<void>
  /** Makes files in it. Absent where none are made. */
  readonly files?: FileKeeper
  /** Which way a kind can change its size. Absent where it keeps it. */
  readonly resizes?: 'grows' | 'both'
  /**
   * The volume as it would be on `size` bytes, whole sectors; the device is only read, and what changes is held in
   * memory. What has another place is read from its old one. Rejects with CoreError when the volume is not clean,
   * contradicts itself or does not go into `size`.
   */
  resize?(device: BlockDevice, size: number): Promise<BlockDevice>
  /** Writes into the volume at which sector of the drive it starts, for kinds that keep note of it. */
  relocate?(device: BlockDevice, startSector: number): Promise<void>
}
