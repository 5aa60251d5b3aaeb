/** A drive that an image can be made of. */
export interface DriveChoice {
  readonly id: string
  readonly name: string
  readonly serial: string
  readonly sizeBytes: number
}
