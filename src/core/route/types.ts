import { z } from 'zod'

/** A connection with the rate it really reaches, in bytes per second. */
export const LINKS = {
  'usb-2': { name: 'USB 2', bytesPerSecond: 38e6 },
  'usb-5': { name: 'USB 5 Gb/s', bytesPerSecond: 410e6 },
  'usb-10': { name: 'USB 10 Gb/s', bytesPerSecond: 950e6 },
  'sata-3': { name: 'SATA 3 Gb/s', bytesPerSecond: 270e6 },
  'sata-6': { name: 'SATA 6 Gb/s', bytesPerSecond: 540e6 },
  'pcie-3x4': { name: 'PCIe 3 x4', bytesPerSecond: 3400e6 },
  'ethernet-1': { name: '1 Gb Ethernet', bytesPerSecond: 112e6 },
} as const
export const LinkIdSchema = z.enum(Object.keys(LINKS) as [keyof typeof LINKS, ...(keyof typeof LINKS)[]])
export type LinkId = z.infer<typeof LinkIdSchema>

/** How fast the parts of a leg move bytes. Rates in bytes per second. */
export const LegTimingSchema = z.object({
  copyBytesPerSecond: z.number(),
  checkBytesPerSecond: z.number(),
  /** What each request costs besides, in seconds. */
  requestSeconds: z.number(),
  limitedBy: z.string(),
})
export type LegTiming = z.infer<typeof LegTimingSchema>

export const StopSchema = z.object({
  title: z.string(),
  sub: z.string(),
  /** What leads to the next stop: bytes that move, hands that work, a start. */
  toNext: z.enum(['bytes', 'hands', 'start']).optional(),
  label: z.string().optional(),
})

export const RouteSchema = z.object({
  title: z.string(),
  why: z.string(),
  stops: z.array(StopSchema),
  leg: z.object({
    bytes: z.number(),
    from: z.string(),
    to: z.string(),
    timing: LegTimingSchema,
    /** Reading, moving and reading back, in seconds. */
    lowSeconds: z.number(),
    highSeconds: z.number(),
  }),
  risks: z.array(z.string()),
})
export type Route = z.infer<typeof RouteSchema>
