/** How far a copy is; seconds are bench seconds since its start. */
export interface CopyProgress {
  readonly phase: 'erase' | 'copy' | 'check' | 'tables'
  readonly copiedBytes: number
  readonly checkedBytes: number
  readonly totalBytes: number
  readonly sourceOffset: number
  readonly partition: string
  readonly seconds: number
  readonly copySeconds: number
  readonly bytesPerSecond: number
  readonly meanBytesPerSecond: number
  readonly secondsLeft: number
  readonly samples: readonly {
    readonly second: number
    readonly bytesPerSecond: number
    readonly phase: 'copy' | 'check'
  }[]
}
