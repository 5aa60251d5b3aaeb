import type { Comparison } from '@/core/image/compare'
import type { Touched } from '@/core/image/touched'

// What the pages of images are given.

export interface ImageItem {
  readonly name: string
  readonly fileBytes: number
  readonly hostBytes: number
  readonly packing: 'gzip' | 'zstd' | null
  readonly opened: {
    readonly kind: string
    readonly format: string
    readonly virtualBytes: number
    readonly parent: string | null
    readonly scheme: string
    readonly usedBytes: number
    readonly contents: readonly string[]
    readonly damaged: boolean
    readonly cautions: number
  } | null
  readonly sentence: string | null
  readonly onBench: readonly string[]
}

export interface JobItem {
  readonly id: string
  readonly kind: 'convert' | 'capture' | 'compare'
  readonly title: string
  readonly state: 'running' | 'done' | 'failed' | 'stopped'
  readonly doneBytes: number
  readonly totalBytes: number
  readonly message: string | null
  readonly result:
    | {
        readonly kind: 'written'
        readonly virtualBytes: number
        readonly fileBytes: number
        readonly hostBytes: number
      }
    | {
        readonly kind: 'compared'
        readonly comparison: Comparison
        readonly touched: Touched | null
        readonly sectorSize: number
      }
    | null
}

export interface DriveChoice {
  readonly id: string
  readonly name: string
  readonly serial: string
  readonly sizeBytes: number
}
