import type { Brief } from '@/core/intake/brief'

const base = { toVirtualMachine: false, targetComputerId: null, images: [], backup: null }

/** The moves of the scenario, by id. */
export const SCENARIO_MOVES: Record<string, Brief> = {
  'ticket-desk': {
    ...base,
    name: 'Ticket desk',
    customer: 'Lanterna museum',
    reason: 'more room',
    computerId: 'ticket-desk',
    pairs: [{ sourceId: 'crv3-240', targetId: 'crv5-960' }],
    backup: { where: 'on the museum’s server', date: '2026-05-02' },
    promised: '2026-05-04T13:00',
  },
  'lighting-desk': {
    ...base,
    name: 'Lighting desk',
    customer: 'Puppet theatre on the quay',
    reason: 'failing drive',
    computerId: 'lighting-desk',
    pairs: [{ sourceId: 'lmp7-320', targetId: 'tln1-256' }],
    promised: '2026-05-05T17:00',
  },
  'logbook-server': {
    ...base,
    name: 'Logbook server',
    customer: 'Pilot office',
    reason: 'virtual machine',
    computerId: 'logbook-server',
    pairs: [
      { sourceId: 'crh5-500', targetId: null },
      { sourceId: 'crh5-1000', targetId: null },
    ],
    toVirtualMachine: true,
    promised: '2026-05-06T07:00',
  },
  'field-laptop': {
    ...base,
    name: 'Field laptop',
    customer: 'Beekeepers’ co-op',
    reason: 'more room',
    computerId: 'field-laptop',
    pairs: [{ sourceId: 'osn1-512', targetId: 'tln2-2000' }],
    promised: '2026-05-05T12:00',
  },
  'editing-computer': {
    ...base,
    name: 'Editing computer',
    customer: 'Film society',
    reason: 'more room',
    computerId: 'editing-computer',
    pairs: [{ sourceId: 'lmb1-256', targetId: 'lmb2-1000' }],
    promised: '2026-05-07T18:00',
  },
  'survey-office': {
    ...base,
    name: 'Survey office PC',
    customer: 'Boat surveyor',
    reason: 'another computer',
    computerId: 'surveyor-old',
    pairs: [{ sourceId: 'oss1-128', targetId: 'tln2-1000' }],
    targetComputerId: 'surveyor-new',
    images: ['survey office 3 May.vhdx'],
    promised: '2026-05-08T10:00',
  },
  grading: {
    ...base,
    name: 'Grading system',
    customer: 'Film society',
    reason: 'another computer',
    computerId: 'editing-computer',
    pairs: [{ sourceId: 'lmb1-256', targetId: 'crv5-1000', volume: 4 }],
    targetComputerId: 'cutting-room',
    promised: '2026-05-08T17:00',
  },
}
