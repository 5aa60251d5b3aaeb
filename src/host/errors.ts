import { CoreError } from '@/core/errors'

/** The host has no room left for the bytes. */
export class HostFull extends CoreError {
  override readonly name = 'HostFull'
  constructor(what = 'The disk that holds the bench’s data folder is full, so the drive took no more bytes.') {
    super(what)
  }
}

/** A file is missing, may not be read, or is no file. */
export class NoFile extends CoreError {
  override readonly name = 'NoFile'
}

const SENTENCES: Record<string, string> = {
  ENOENT: 'There is no such file',
  ENOTDIR: 'There is no such file',
  EACCES: 'The file may not be read',
  EPERM: 'The file may not be read',
  EISDIR: 'It is a folder, not a file',
  EEXIST: 'A file of that name is there already',
  ENAMETOOLONG: 'The name is too long',
  EFBIG: 'The file would be larger than its disk can hold',
  EROFS: 'The disk may not be written',
  ENXIO: 'It is no file',
  ELOOP: 'Its links lead back to themselves',
}

/** The host's error as one with a sentence; others are given back as they are. */
export function hostError(error: unknown, name: string): unknown {
  const code = (error as NodeJS.ErrnoException | undefined)?.code
  if (code === 'ENOSPC' || code === 'EDQUOT') {
    return new HostFull(`The disk that holds ${name} is full, so nothing more was written.`)
  }
  if (code && SENTENCES[code]) return new NoFile(`${SENTENCES[code]}: ${name}.`)
  return error
}
