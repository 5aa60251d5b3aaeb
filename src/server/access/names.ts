import { hostname, networkInterfaces } from 'node:os'

/** An address that only this machine itself reaches. */
export function isLoopback(host: string): boolean {
  const name = hostName(host)
  return name === 'localhost' || name === '[::1]' || name === '::1' || /^127(\.\d{1,3}){3}$/.test(name)
}

/** A host as it is compared: without its port, blanks around it, and its case. */
export function hostName(host: string): string {
  const name = host.trim().toLowerCase()
  return /^\[.*\]:\d+$|^[^:]*:\d+$/.test(name) ? name.replace(/:\d+$/, '') : name
}

/**
 * The names that a server answers to which listens on `host`: that, this machine's own addresses where it listens on all,
 * and `more`. Others are names that somebody else gave this address.
 */
export function ownNames(host: string, more: readonly string[] = []): ReadonlySet<string> {
  const isEverywhere = ['0.0.0.0', '::', '[::]'].includes(host)
  const addresses = isEverywhere
    ? Object.values(networkInterfaces()).flatMap((found) => (found ?? []).map((one) => one.address.split('%')[0]))
    : [host]
  const names = ['127.0.0.1', 'localhost', '::1', ...addresses, ...(isEverywhere ? [hostname()] : []), ...more]
  // In a header an IPv6 address stands in brackets.
  return new Set(
    names
      .map(hostName)
      .filter(Boolean)
      .map((name) => (/^[\da-f:]*:[\da-f:.]*$/.test(name) ? `[${name}]` : name)),
  )
}
