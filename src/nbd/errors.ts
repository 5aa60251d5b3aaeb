import { CoreError } from '@/core/errors'

/** The other side said something that the protocol does not know. The connection is of no more use. */
export class ProtocolError extends CoreError {
  override readonly name = 'ProtocolError'
  constructor(what: string) {
    super(`The other side does not keep to the protocol of network block devices: ${what}.`)
  }
}

/** The other side refused what was asked for before anything was read: an export, a key, the way of asking. */
export class NotLent extends CoreError {
  override readonly name = 'NotLent'
}

/** The connection ended, or nothing came over it for too long. */
export class ConnectionLost extends CoreError {
  override readonly name = 'ConnectionLost'
  constructor(what: string) {
    super(`The connection is lost: ${what}.`)
  }
}
