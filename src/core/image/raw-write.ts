import type { ImageSink, ImageWriter } from './port'

/** Writes the bytes where they belong; what is left out stays a hole. */
export function rawWriter(sink: ImageSink): ImageWriter {
  return {
    write: (offset, from) => sink.write(offset, from),
    finish: (virtualBytes) => sink.truncate(virtualBytes),
  }
}
