import * as z from 'zod'

/** A connection with the rate it really reaches, in bytes per second. */
export const LINKS = {
  'usb-2': { name: 'USB 2', bytesPerSecond: 38e6 },
  'usb-5': { name: 'USB 5 Gb/s', bytesPerSecond: 410e6 },
  'usb-10': { name: 'USB 10 Gb/s', bytesPerSecond: 950e6 },
  'sata-3': { name: 'SATA 3 Gb/s', bytesPerSecond: 270e6 },
  'sata-6': { name: 'SATA 6 Gb/s', bytesPerSecond: 540e6 },
  'pcie-3x2': { name: 'PCIe 3 x2', bytesPerSecond: 1700e6 },
  'pcie-3x4': { name: 'PCIe 3 x4', bytesPerSecond: 3400e6 },
  'emmc-hs400': { name: 'eMMC HS400', bytesPerSecond: 320e6 },
  'ethernet-100': { name: '100 Mb Ethernet', bytesPerSecond: 11.2e6 },
  'ethernet-1': { name: '1 Gb Ethernet', bytesPerSecond: 112e6 },
  /** Of what is plugged into this computer by a connection that tells no rate: what it does is measured. */
  own: { name: 'at its own rate', bytesPerSecond: 20e9 },
} as const

export type LinkId = keyof typeof LINKS
export const LINK_IDS = Object.keys(LINKS) as [LinkId, ...LinkId[]]
export const LinkIdSchema = z.enum(LINK_IDS)

export const UsbLinkSchema = z.enum(['usb-2', 'usb-5', 'usb-10'])
export type UsbLink = z.infer<typeof UsbLinkSchema>

/** Those that a person chooses from. */
export const NETWORK_LINKS = ['ethernet-1', 'ethernet-100'] as const
export const NetworkLinkSchema = z.enum([...NETWORK_LINKS, 'own'])
export type NetworkLink = z.infer<typeof NetworkLinkSchema>

/** The slower of two links: what goes through both goes no faster. */
export function slower(a: LinkId, b: LinkId): LinkId {
  return LINKS[b].bytesPerSecond < LINKS[a].bytesPerSecond ? b : a
}

/** The two kinds of USB plug, and of the socket that takes it. */
export const PlugSchema = z.enum(['A', 'C'])
export type Plug = z.infer<typeof PlugSchema>

const USB_WORDS: Record<UsbLink, string> = { 'usb-2': '480 Mb/s', 'usb-5': '5 Gb/s', 'usb-10': '10 Gb/s' }

/** Sockets in words: `4 × USB-A 5 Gb/s, 1 × USB-C 10 Gb/s`. */
export function socketWords(sockets: readonly Socket[]): string {
  return sockets.map((s) => `${s.count} × USB-${s.plug} ${USB_WORDS[s.link]}`).join(', ')
}

/** Sockets of one kind that a computer has. */
export const SocketSchema = z.object({ plug: PlugSchema, link: UsbLinkSchema, count: z.number().int().min(1).max(16) })
export type Socket = z.infer<typeof SocketSchema>
