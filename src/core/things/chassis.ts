import { z } from 'zod'

const count = z.number().int().min(0).max(99)

/** What a computer's case asks for before a drive is reached. */
export const ChassisSchema = z.object({
  kind: z.enum(['desktop', 'tower', 'laptop', 'server']),
  hasBattery: z.boolean(),
  /** The part that comes off, and what holds it. */
  cover: z.object({
    name: z.string().trim().min(1).max(40),
    screws: count,
    screw: z.string().max(80),
    how: z.string().max(200),
  }),
  /** What holds a drive in its place. */
  driveMount: z.object({ screws: count, screw: z.string().max(80), how: z.string().max(200) }),
  tools: z.array(z.string().max(40)).max(12),
})
export type Chassis = z.infer<typeof ChassisSchema>
