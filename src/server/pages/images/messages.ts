import type { DriveBytes } from '@/bench/open-drive'
import type { TargetKind } from '@/core/image'
import type { JobResult } from '@/core/image/views'

/** What an image worker is started with. Paths were checked before. */
export type ImageOrder =
  | {
      readonly kind: 'convert'
      readonly input: string
      readonly output: string
      readonly to: TargetKind
      readonly within: string
    }
  | {
      readonly kind: 'capture'
      readonly drive: DriveBytes
      readonly output: string
      readonly to: TargetKind
      readonly usedOnly: boolean
    }
  | { readonly kind: 'compare'; readonly a: string; readonly b: string; readonly within: string }

export type FromImageWorker =
  | { readonly type: 'progress'; readonly doneBytes: number; readonly totalBytes: number }
  | { readonly type: 'done'; readonly result: JobResult }
  | { readonly type: 'failed'; readonly message: string; readonly stopped: boolean }
