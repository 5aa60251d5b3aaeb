import { describe, expect, it } from 'vitest'
import { type Endpoint, formatRange, legSeconds, planRoute, type RouteQuestion } from './route'
import { LINKS, RouteSchema } from './types'

const GB = 1e9

function endpoint(driveId: string, link: keyof typeof LINKS | undefined, rates: Partial<Endpoint> = {}): Endpoint {
  return {
    driveId,
    name: driveId,
    interfaceName: '2.5-inch SATA',
    readBytesPerSecond: 520e6,
    writeBytesPerSecond: 460e6,
    requestSeconds: 0.0003,
    berth: link && { name: `${driveId} berth`, link, inComputer: link.startsWith('sata') },
    ...rates,
  }
}

function question(changes: Partial<RouteQuestion> = {}): RouteQuestion {
  return {
    computerName: 'ticket desk',
    homeSlot: { name: 'SATA 0', interfaceName: '2.5-inch SATA' },
    source: endpoint('old', 'sata-6'),
    target: endpoint('new', 'usb-5'),
    bytes: 200 * GB,
    ...changes,
  }
}

function route(changes: Partial<RouteQuestion> = {}) {
  const found = planRoute(question(changes))
  if (!found.works) throw new Error(found.reason)
  return found.route
}

describe('a route', () => {
  it('takes as long as its slowest part, there and back, and names that part', () => {
    const { leg } = route()
    expect(leg.timing.copyBytesPerSecond).toBe(LINKS['usb-5'].bytesPerSecond)
    expect(leg.timing.limitedBy).toBe('new berth, USB 5 Gb/s')
    expect(leg.lowSeconds).toBeCloseTo((2 * 200 * GB) / 410e6, 5)
    expect(leg.highSeconds).toBeGreaterThan(leg.lowSeconds)
  })

  it.each([
    ['reading the old', { source: endpoint('old', 'sata-6', { readBytesPerSecond: 90e6 }) }, 90e6],
    ['writing the new', { target: endpoint('new', 'sata-6', { writeBytesPerSecond: 300e6 }) }, 300e6],
    ['new berth, USB 2', { target: endpoint('new', 'usb-2') }, 38e6],
  ] as const)('is limited by %s', (name, changes, rate) => {
    const { timing } = route(changes).leg
    expect([timing.limitedBy, timing.copyBytesPerSecond]).toEqual([name, rate])
  })

  it('warns of USB 2', () => {
    expect(route({ target: endpoint('new', 'usb-2') }).risks.join(' ')).toMatch(/hours/)
    expect(route().risks.join(' ')).not.toMatch(/hours/)
  })

  it('survives being stored', () => {
    const found = route()
    expect(RouteSchema.parse(JSON.parse(JSON.stringify(found)))).toEqual(found)
  })

  it.each([
    ['source and target are one drive', { target: endpoint('old', 'usb-5') }, /same drive/],
    ['the target is on the table', { target: endpoint('new', undefined) }, /new is not connected/],
    ['the source is on the table', { source: endpoint('old', undefined) }, /old is not connected/],
    [
      'the target does not go into the computer',
      { target: endpoint('new', 'usb-10', { interfaceName: 'M.2 NVMe' }) },
      /takes 2\.5-inch SATA/,
    ],
  ] as const)('does not exist when %s', (_what, changes, reason) => {
    const found = planRoute(question(changes))
    expect(!found.works && found.reason).toMatch(reason)
  })
})

describe('times', () => {
  it('count copying and reading back', () => {
    const timing = { copyBytesPerSecond: 100, checkBytesPerSecond: 200, requestSeconds: 0, limitedBy: '' }
    expect(legSeconds(timing, 1000)).toBe(15)
  })

  it('are said as ranges that hold both ends', () => {
    expect([formatRange(1057, 1322), formatRange(40, 50), formatRange(9000, 11000)]).toEqual([
      '17 – 23 min',
      '40 – 50 s',
      '2.5 – 3.1 h',
    ])
  })
})
