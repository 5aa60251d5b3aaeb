import type { Comparison } from './compare'
import type { ImageKind, Packing } from '.'
import type { LostInImage } from './lost'
import type { Touched } from './touched'
import type { MapTaken } from './used'

// What is told of images and of the work on them, from server to page.

/** One file of the images folder. */
export interface ImageSummary {
  readonly name: string
  readonly fileBytes: number
  /** What the file takes on the host. */
  readonly hostBytes: number
  readonly packing: Packing | null
  /** Absent for a packed file, and for one that cannot be opened. */
  readonly opened: {
    readonly kind: ImageKind
    readonly format: string
    readonly virtualBytes: number
    readonly parent: string | null
    readonly scheme: string
    readonly usedBytes: number
    /** Titles of the partitions, with what is on them. */
    readonly contents: readonly string[]
    readonly damaged: boolean
    readonly cautions: number
  } | null
  /** Why it cannot be opened. */
  readonly sentence: string | null
  /** Names of the bench's drives that it stands for. */
  readonly onBench: readonly string[]
}

/** What a job came to. */
export type JobResult =
  | {
      readonly kind: 'written'
      readonly virtualBytes: number
      readonly fileBytes: number
      readonly hostBytes: number
      /** What did not read; zeros stand in its place. */
      readonly lost: LostInImage
      /** Volumes that were taken by their maps of used blocks. */
      readonly maps: readonly MapTaken[]
    }
  | {
      readonly kind: 'compared'
      readonly comparison: Comparison
      readonly touched: Touched | null
      readonly sectorSize: number
      /** Sectors of either that did not read, of which nobody knows whether they are the same. */
      readonly unreadable: readonly [number, number]
    }

/** One conversion, capture or comparison, running or ended since the server started. */
export interface ImageJob {
  readonly id: string
  readonly kind: 'convert' | 'capture' | 'compare'
  readonly title: string
  readonly state: 'running' | 'done' | 'failed' | 'stopped'
  readonly doneBytes: number
  /** 0 while it is not known. */
  readonly totalBytes: number
  readonly message: string | null
  readonly result: JobResult | null
}
