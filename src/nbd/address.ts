import { CoreError } from '@/core/errors'
import { keyOfFile, type SharedKey } from './key'
import { MOST_NAME_BYTES } from './protocol'

/** Where something is lent: `nbd://HOST:PORT/EXPORT`, or `nbds:` with TLS. */
export interface NbdAddress {
  readonly tls: boolean
  readonly host: string
  readonly port: number
  /** The name of the export; a server may have one without a name. */
  readonly exportName: string
  /** Who asks, where the address says it. */
  readonly identity?: string
  /** Where its key is kept on this computer, where the address says it: `?tls-psk-file=…`. */
  readonly pskFile?: string
}

export const DEFAULT_PORT = 10809

export const isNbdAddress = (text: string) => /^nbds?:\/\//i.test(text)

/** Reads the address of something that is lent, as the published form of such addresses has it. Throws CoreError. */
export function nbdAddress(text: string): NbdAddress {
  const no = (why: string) => new CoreError(`${text.slice(0, 200)} is no address of something that is lent: ${why}.`)
  if (!isNbdAddress(text)) throw no('it does not begin with nbd:// or nbds://')
  const [scheme, rest] = splitOnce(text, '://')
  let url: URL
  try {
    // Only a scheme that is known here tells hosts and ports apart in the same way everywhere.
    url = new URL(`http://${rest}`)
  } catch {
    throw no('its host or port cannot be read')
  }
  if (url.password) throw no('it must not hold a password')
  const host = url.hostname.replace(/^\[|\]$/g, '')
  // The scheme in use above has a port that is left out where it is said.
  const said = /:(\d+)(?:[/?#]|$)/.exec(rest.replace(/^\[[^\]]*\]/, ''))
  const port = said ? Number(said[1]) : DEFAULT_PORT
  if (port < 1 || port > 65_535) throw no('its port is none')
  const exportName = decoded(url.pathname.slice(1))
  const identity = decoded(url.username)
  if (exportName === undefined || identity === undefined) throw no('its name cannot be read')
  if (Buffer.byteLength(exportName) > MOST_NAME_BYTES) throw no('the name of what is lent is too long')
  const pskFile = url.searchParams.get('tls-psk-file')
  return {
    ...{ tls: /^nbds/i.test(scheme), host, port, exportName },
    ...(identity === '' ? {} : { identity }),
    ...(pskFile ? { pskFile } : {}),
  }
}

/** The key for an address: that of the file which it names, else the one that is given. Rejects with CoreError. */
export async function keyFor({ pskFile }: NbdAddress, given: SharedKey | undefined): Promise<SharedKey | undefined> {
  return pskFile === undefined ? given : keyOfFile(pskFile)
}

/** The address as it is written. */
export function nbdUri({ tls, host, port, exportName, identity }: NbdAddress): string {
  const user = identity === undefined ? '' : `${encodeURIComponent(identity)}@`
  const shown = host.includes(':') ? `[${host}]` : host
  return `nbd${tls ? 's' : ''}://${user}${shown}:${port}/${exportName.split('/').map(encodeURIComponent).join('/')}`
}

function splitOnce(text: string, by: string): [string, string] {
  const at = text.indexOf(by)
  return [text.slice(0, at), text.slice(at + by.length)]
}

function decoded(text: string): string | undefined {
  try {
    return decodeURIComponent(text)
  } catch {
    return undefined
  }
}
