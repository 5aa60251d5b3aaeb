import { BadStructure } from '../errors'
import type { ImageFile } from './port'

/** Reads of an image file that stay inside it. */
export function fileReader(file: ImageFile): (offset: number, into: Uint8Array) => Promise<void> {
  return async (offset, into) => {
    if (offset < 0 || offset + into.length > file.size) {
      throw new BadStructure('image', offset, `the file ends at ${file.size}, before the data it names`)
    }
    await file.read(offset, into)
  }
}
