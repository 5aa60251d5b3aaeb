/**
 * The root of all errors that core raises on purpose. `message` is a sentence for a technician;
 * subclasses carry the fields a program needs.
 */
export class CoreError extends Error {
  override readonly name: string = 'CoreError'
}

/** A structure on a disk contradicts its specification. `offset` is in bytes from the start of the device read. */
export class BadStructure extends CoreError {
  override readonly name = 'BadStructure'
  constructor(
    readonly structure: string,
    readonly offset: number,
    readonly why: string,
  ) {
    super(`The ${structure} at byte ${offset} is damaged: ${why}.`)
  }
}

/** The disk holds something valid that this version cannot handle. */
export class NotSupported extends CoreError {
  override readonly name = 'NotSupported'
}

/** For `catch`: what core raised on purpose becomes undefined, any other error goes on. */
export function orUndefined(error: unknown): undefined {
  if (error instanceof CoreError) return undefined
  throw error
}
