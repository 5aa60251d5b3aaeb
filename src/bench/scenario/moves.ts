import { z } from 'zod'

/** Why a customer wants a move. */
export const ReasonSchema = z.enum(['more room', 'more speed', 'failing drive', 'virtual machine', 'another computer'])

/** What a move is about, before anything is read. */
export const BriefSchema = z.object({
  name: z.string(),
  customer: z.string(),
  reason: ReasonSchema,
  computerId: z.string(),
  sourceDriveIds: z.array(z.string()),
  targetDriveId: z.string().nullable(),
  toVirtualMachine: z.boolean(),
  /** Where the system will live when that is another computer. */
  targetComputerId: z.string().nullable(),
  /** Backup that the customer told of; null when there is none. */
  backup: z.object({ where: z.string(), date: z.string() }).nullable(),
  promised: z.string(),
})
export type Brief = z.infer<typeof BriefSchema>

const base = { toVirtualMachine: false, targetComputerId: null, backup: null, promised: '' }

/** The six moves of the scenario, by id. */
export const SCENARIO_MOVES: Record<string, Brief> = {
  'ticket-desk': {
    ...base,
    name: 'Ticket desk',
    customer: 'Lanterna museum',
    reason: 'more room',
    computerId: 'ticket-desk',
    sourceDriveIds: ['crv3-240'],
    targetDriveId: 'crv5-960',
    backup: { where: 'on the museum’s server', date: '2 May' },
    promised: '4 May, 13:00',
  },
  'lighting-desk': {
    ...base,
    name: 'Lighting desk',
    customer: 'Puppet theatre on the quay',
    reason: 'failing drive',
    computerId: 'lighting-desk',
    sourceDriveIds: ['lmp7-320'],
    targetDriveId: 'tln1-256',
    promised: '5 May, 17:00',
  },
  'logbook-server': {
    ...base,
    name: 'Logbook server',
    customer: 'Pilot office',
    reason: 'virtual machine',
    computerId: 'logbook-server',
    sourceDriveIds: ['crh5-500', 'crh5-1000'],
    targetDriveId: null,
    toVirtualMachine: true,
    promised: '6 May, 07:00',
  },
  'field-laptop': {
    ...base,
    name: 'Field laptop',
    customer: 'Beekeepers’ co-op',
    reason: 'more room',
    computerId: 'field-laptop',
    sourceDriveIds: ['osn1-512'],
    targetDriveId: 'tln2-2000',
    promised: '5 May, 12:00',
  },
  'editing-computer': {
    ...base,
    name: 'Editing computer',
    customer: 'Film society',
    reason: 'more room',
    computerId: 'editing-computer',
    sourceDriveIds: ['lmb1-256'],
    targetDriveId: 'lmb2-1000',
    promised: '7 May, 18:00',
  },
  'survey-office': {
    ...base,
    name: 'Survey office PC',
    customer: 'Boat surveyor',
    reason: 'another computer',
    computerId: 'surveyor-old',
    sourceDriveIds: ['oss1-128'],
    targetDriveId: 'tln2-1000',
    targetComputerId: 'surveyor-new',
    promised: '8 May, 10:00',
  },
}
