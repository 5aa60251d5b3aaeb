import { CoreError } from '../errors'

/** The path names nothing on this volume. */
export class NoSuchFile extends CoreError {
  override readonly name = 'NoSuchFile'
  constructor(readonly path: string) {
    super(`There is no ${path} on this volume.`)
  }
}
