import { describe, expect, it } from 'vitest'
import { berthOf, driveName, whyNotThere } from './places'
import { SCENARIO_BENCH } from './scenario/things'

const drive = (id: string) => SCENARIO_BENCH.drives.find((d) => d.id === id)!

describe('places', () => {
  it('are said as people say them, with the link they give', () => {
    expect(berthOf(drive('crv3-240').place, SCENARIO_BENCH)).toEqual({
      name: 'ticket desk, SATA 0',
      link: 'sata-6',
      inComputer: true,
    })
    expect(berthOf(drive('crv5-960').place, SCENARIO_BENCH)).toEqual({
      name: 'USB dock A, bay 1',
      link: 'usb-5',
      inComputer: false,
    })
    expect(berthOf(drive('tln1-256').place, SCENARIO_BENCH)).toEqual({ name: 'on the table', inComputer: false })
    expect(driveName(drive('tln2-2000'))).toBe('Tellina N2 2 TB')
  })

  it.each([
    ['where another is', { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 1' }, 'tln1-256', /is there already/],
    ['of another interface', { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 2' }, 'tln2-2000', /takes 2\.5-inch SATA/],
    ['that does not exist', { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 9' }, 'tln1-256', /no such place/],
    [
      'in a computer under power',
      { kind: 'slot', computerId: 'ticket-desk', slot: 'SATA 1' },
      'tln1-256',
      /has mains power/,
    ],
  ] as const)('take no drive %s', (_what, place, id, reason) => {
    expect(whyNotThere(drive(id), place, SCENARIO_BENCH)).toMatch(reason)
  })

  it('take a drive that fits', () => {
    expect(
      whyNotThere(drive('tln1-256'), { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 2' }, SCENARIO_BENCH),
    ).toBeUndefined()
  })
})

describe('the scenario', () => {
  it('has every drive once, in a place of its own that takes it', () => {
    const { drives } = SCENARIO_BENCH
    expect(new Set(drives.map((d) => d.serial)).size).toBe(drives.length)
    for (const d of drives) {
      const others = { ...SCENARIO_BENCH, computers: SCENARIO_BENCH.computers.map((c) => ({ ...c, mains: false })) }
      expect([d.id, whyNotThere(d, d.place, others)]).toEqual([d.id, undefined])
    }
  })
})
