/** A move that a drive is part of, open or handed over. */
export interface DriveUse {
  readonly moveId: string
  readonly title: string
  readonly as: 'source' | 'target'
}
