/** Sectors of a disk that did not read, and the files that they belong to. */
export interface LostInImage {
  readonly sectors: number
  readonly files: readonly { readonly partition: number; readonly path: string }[]
}

export const NO_LOSS: LostInImage = { sectors: 0, files: [] }
