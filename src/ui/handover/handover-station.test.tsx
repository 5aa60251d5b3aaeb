import { type ComponentProps } from 'react'
import { describe, expect, it, vi } from 'vitest'
import { GIB, MIB } from '@/core/bytes/size'
import { sheet } from '@/core/handover/testing'
import { plate, type Shown, showStation } from '../testing'
import { HandoverStation } from './handover-station'

vi.mock('next/navigation', () => ({ useRouter: () => ({ push() {}, refresh() {} }) }))

type View = ComponentProps<typeof HandoverStation>['view']

function shown(changes: Partial<View> = {}): Shown {
  const view: View = {
    sheet: sheet(),
    today: '2026-05-04',
    closed: null,
    closing: null,
    plates: [{ source: plate('Corvina S3 240 GB'), target: plate('Corvina S5 960 GB') }],
    profile: Array<number>(240).fill(0.4),
    sourceBytes: 240e9,
    ...changes,
  }
  return showStation(<HandoverStation moveId="ticket-desk" view={view} />)
}

describe('a sheet that waits', () => {
  it('can be handed over, with a name', () => {
    const { finding, next, text } = shown()
    expect(finding).toBe('The sheet is ready to go with the computer')
    expect(text).toMatch(/Lanterna museum gets the ticket desk back with this sheet/)
    expect(text).toMatch(/Done by/)
    expect(next).toBe('Hand it over')
  })

  it('waits for the case', () => {
    const open = shown({ closing: 'Shut the ticket desk down once more' })
    expect(open.next).toBe('Close the case')
    expect(open.text).toMatch(/Next in Swap: Shut the ticket desk down once more/)
  })

  it('says what is still off', () => {
    expect(shown({ sheet: sheet({ stillOff: ['Network'] }) }).text).toMatch(/not on again: Network\. Proof turns it on/)
  })

  it('goes with another computer where the system lives in one now', () => {
    const onto = { name: 'new desk', model: 'Tramonto T9' }
    expect(shown({ sheet: sheet({ onto }) }).text).toMatch(/gets the new desk with this sheet/)
  })
})

describe('a sheet that was handed over', () => {
  it('keeps its day and that of the old drive, and can be printed', () => {
    const handedOver = { day: '4 May 2026', time: '09:18' }
    const { finding, next, text, markup } = shown({
      sheet: sheet({ handedOver, keptUntil: '18 May 2026', by: 'Ilaria' }),
      closed: { at: '09:18', shelfUntil: '2026-05-18' },
    })
    expect(finding).toBe('Handed over on 4 May 2026')
    expect(text).toMatch(/stays on the shelf until 18 May 2026; until then it is the way back/)
    expect(next).toBe('Print the sheet')
    expect(markup).toMatch(/\/api\/moves\/ticket-desk\/sheet\?as=pdf/)
    expect(markup).toMatch(/\/api\/moves\/ticket-desk\/sheet\?as=json/)
    expect(markup).toMatch(/href="\/labels\/Corvina S3 240 GB"/)
  })
})

describe('what stands on a sheet', () => {
  it('is the layout before and after, and every link and check with its state', () => {
    const link = (id: string, state: 'passed' | 'unproved') => ({
      id,
      title: id,
      state,
      found: `found ${id}`,
      evidence: '',
    })
    const { text } = shown({
      sheet: sheet({
        partitions: [
          { key: '0-1', title: 'EFI system', before: 100 * MIB, after: 100 * MIB, usedBytes: 4 * MIB },
          { key: '0-3', title: 'Harbour (C:)', before: 222.8 * GIB, after: 893.5 * GIB, usedBytes: 201 * GIB },
        ],
        start: {
          time: '09:18',
          links: [link('Firmware', 'passed'), link('Sign-in', 'unproved')],
          checks: [{ id: 'sizes', title: 'Sizes as planned', passed: true, found: '893.5 GiB' }],
        },
      }),
    })
    expect(text).toMatch(/Ticket desk: moved for more room Molo Sette, Porto Salvia · 4 May 2026/)
    expect(text).toMatch(/EFI system 100 MiB 100 MiB Harbour \(C:\) 222\.8 GiB 893\.5 GiB/)
    expect(text).toMatch(
      /First start, 09:18 .*Firmware: found Firmware .*Sign-in: found Sign-in .*Sizes as planned: 893\.5/,
    )
    expect(text).toMatch(/What you should know A first disk check/)
  })
})
