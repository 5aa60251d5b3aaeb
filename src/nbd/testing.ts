import { connect, createServer, type AddressInfo, type Socket } from 'node:net'
import type { BlockDevice } from '@/core/block/device'
import type { NbdAddress } from './address'
import { Lender, type LenderOptions, type LentExport } from './lender'

export type LentOptions = Partial<LenderOptions> & Partial<Pick<LentExport, 'writable' | 'digest'>>

/** A device lent on this computer under the name `disk`, with its address. */
export async function lentHere(device: BlockDevice, options: LentOptions = {}) {
  const { writable = true, digest, ...rest } = options
  const lender = await Lender.listen(
    { name: 'disk', description: 'a disk', device, writable, ...(digest ? { digest } : {}) },
    { host: '127.0.0.1', port: 0, allow: async () => true, ...rest },
  )
  return { lender, address: addressOf(lender.address.port, rest.key !== undefined) }
}

export const addressOf = (port: number, tls = false): NbdAddress => ({
  tls,
  host: '127.0.0.1',
  port,
  exportName: 'disk',
})

/** A link to a port of this computer that can be cut. */
export async function linkTo(port: number) {
  const open = new Set<Socket>()
  let isCut = false
  let moved = 0
  const waiting = new Set<() => void>()
  const server = createServer((near) => {
    if (isCut) return near.destroy()
    const far = connect({ port, host: '127.0.0.1' })
    for (const [one, other] of [
      [near, far],
      [far, near],
    ]) {
      open.add(one)
      one.pipe(other)
      one.on('data', (bytes: Uint8Array) => {
        moved += bytes.length
        for (const look of waiting) look()
      })
      one.on('error', () => {})
      one.on('close', () => {
        open.delete(one)
        other.destroy()
      })
    }
  })
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  const cut = () => {
    for (const socket of open) socket.destroy()
  }
  return {
    port: (server.address() as AddressInfo).port,
    /** Ends what goes over it; the next connection passes. */
    cut,
    /** Lets nothing pass until it is mended. */
    setCut: (now: boolean) => {
      isCut = now
      if (now) cut()
    },
    /** Resolves once so many bytes more have gone over it, in both directions. */
    untilMoved: (bytes: number) => {
      const end = moved + bytes
      return new Promise<void>((done) => {
        const look = () => {
          if (moved < end) return
          waiting.delete(look)
          done()
        }
        waiting.add(look)
      })
    },
    close: async () => {
      cut()
      await new Promise((done) => server.close(done))
    },
  }
}
