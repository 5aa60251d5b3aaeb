import { renderToStaticMarkup } from 'react-dom/server'
import { describe, expect, it } from 'vitest'
import { GIB } from '@/core/bytes/size'
import { CopySummarySchema } from '@/core/copy/progress'
import { CopySummaryPanel, LostList } from '../copy/summary'
import { Chain } from '../proof/chain'
import { Course } from '../route/course'
import { DepthProfile } from './depth-profile'
import { Facts } from './facts'
import { FindingList } from './finding-list'
import { Hull } from './hull'
import { placeParts } from './hull-geometry'
import { HullLabels } from './hull-labels'
import { withGaps } from './hull-parts'
import { Logbook } from './logbook'
import { Plate } from './plate'
import { textOf } from '../testing'

const drive = {
  name: 'Corvina S3 240 GB',
  serial: 'CRV3-8841-07KD',
  place: 'ticket desk, SATA 0',
  sizeBytes: 240_057_409_536,
}

describe('a plate', () => {
  it('names model, serial, place, and the capacity both ways', () => {
    const text = textOf(renderToStaticMarkup(<Plate drive={drive} role="Source, read only" capacity />))
    expect(text).toBe(
      'Source, read only Corvina S3 240 GB s/n CRV3-8841-07KD ticket desk, SATA 0 sold as 240 GB, holds 223.6 GiB',
    )
  })
})

describe('the depth profile', () => {
  it.each([
    ['an empty drive', Array(240).fill(0), 0],
    ['a full one', Array(240).fill(1), 223.6 * GIB],
    ['one in hand at its very end', Array(240).fill(0.5), 500 * GIB],
    ['a small one', [1, 0.5], 0.1 * GIB],
  ])('draws %s without a number that is none', (_what, profile, done) => {
    for (const size of [0.2 * GIB, 223.6 * GIB, 20_000 * GIB]) {
      const markup = renderToStaticMarkup(
        <DepthProfile profile={profile} sizeBytes={size} doneBytes={done} inHand="in hand" label="x" />,
      )
      expect(markup).not.toMatch(/NaN|Infinity|undefined/)
      expect(markup.match(/<text/g)!.length).toBeLessThan(14)
    }
  })
})

describe('a hull', () => {
  const parts = placeParts(
    [
      { key: '1', title: 'EFI system', role: 'boot', sizeBytes: 100, usedBytes: 5 },
      { key: '3', title: 'Harbour (C:)', role: 'system', sizeBytes: 222 * GIB, usedBytes: 201 * GIB },
      { key: '4', title: 'Recovery', role: 'recovery', sizeBytes: 650, usedBytes: 400 },
      { key: 'gap', title: 'Unallocated', role: 'unallocated', sizeBytes: 0 },
    ],
    350,
    'true',
  )

  it('says how much is used where there is room to say it', () => {
    const markup = renderToStaticMarkup(
      <svg>
        <Hull parts={parts} x={0} y={0} width={100} selected="3" />
      </svg>,
    )
    expect(markup).toContain('201.0 GiB used')
    expect(markup).not.toMatch(/NaN/)
  })

  it('names every part, slivers too, no name over another', () => {
    const markup = renderToStaticMarkup(
      <svg>
        <HullLabels parts={parts} x={0} y={0} height={350} side="right" />
      </svg>,
    )
    const rows = [...markup.matchAll(/<text[^>]* y="([\d.]+)"[^>]*font-weight="650"[^>]*>([^<]+)/g)].map(
      (m) => [m[2], Number(m[1])] as const,
    )
    expect(rows.map(([name]) => name)).toEqual(['EFI system', 'Harbour (C:)', 'Recovery', 'Unallocated'])
    rows.slice(1).forEach(([, y], i) => expect(y - rows[i][1]).toBeGreaterThan(15))
  })

  it('shows the room between partitions in its place', () => {
    const part = (key: string) => ({ key, title: key, role: 'data' as const, sizeBytes: 1 })
    const merged = withGaps(
      [
        { firstLba: 100, part: part('a') },
        { firstLba: 300, part: part('b') },
      ],
      [{ firstLba: 200, sizeBytes: 5 }],
    )
    expect(merged.map((p) => p.key)).toEqual(['a', 'gap-200', 'b'])
  })
})

describe('lists', () => {
  it('of findings carry their weight in words and their evidence', () => {
    const markup = renderToStaticMarkup(
      <FindingList
        findings={[{ severity: 'damage', code: 'x', sentence: 'The table is damaged.', evidence: 'Sector 1' }]}
      />,
    )
    expect(markup).toContain('aria-label="Damage"')
    expect(textOf(markup)).toBe('The table is damaged. Sector 1')
  })

  it('of facts and of what happened say so when they are empty', () => {
    expect(textOf(renderToStaticMarkup(<Logbook lines={[]} />))).toBe('Nothing has happened yet.')
    expect(textOf(renderToStaticMarkup(<Facts facts={[{ name: 'State', value: 'clean', tone: 'good' }]} />))).toBe(
      'State clean',
    )
  })

  it('of links tell passed, failed and not reached without colour', () => {
    const markup = renderToStaticMarkup(
      <Chain
        links={[
          { id: 'firmware', title: 'Firmware', state: 'passed', found: 'UEFI', evidence: 'Boot entry 0003' },
          {
            id: 'table',
            title: 'Partition table',
            state: 'failed',
            found: 'none',
            evidence: 'sector 1',
            why: 'It is gone.',
          },
          { id: 'esp', title: 'EFI system partition', state: 'not-reached', found: 'not reached', evidence: '' },
        ]}
      />,
    )
    expect(textOf(markup)).toBe(
      'Passed Firmware UEFI Boot entry 0003 Failed Partition table none sector 1 It is gone. Not reached EFI system partition not reached',
    )
  })
})

describe('a course', () => {
  it('tells its stops in order to those who do not see it', () => {
    const markup = renderToStaticMarkup(
      <Course
        stops={[
          { title: 'Corvina S3', sub: 'SATA 0', toNext: 'bytes', label: '202 GiB' },
          { title: 'Corvina S5', sub: 'dock' },
        ]}
      />,
    )
    const words = markup.replace(/<[^>]+>/g, ' ').replace(/\s+/g, ' ')
    expect(words).toMatch(/202 GiB Corvina S3 SATA 0 Corvina S5 dock/)
  })
})

describe('the summary of a copy', () => {
  const summary = CopySummarySchema.parse({
    copiedBytes: 200 * GIB,
    writtenBytes: GIB,
    checkedBytes: 200 * GIB,
    digest: 'de58908913b2aa',
    bufferBytes: 16,
    targetFingerprint: '',
    copySeconds: 500,
    checkSeconds: 400,
    lost: [],
    partitions: [{ number: 3, title: 'Harbour (C:)', bytes: 200 * GIB, mode: 'used' as const }],
  })

  it('says what was lost, sector by sector and file by file, or that nothing was', () => {
    expect(textOf(renderToStaticMarkup(<CopySummaryPanel summary={summary} />))).toMatch(/Lost nothing/)
    const lost = [
      { partition: 2, sourceLba: 1_234_567, targetLba: 5, sectors: 23, files: ['/Sound/a.wav'], tried: true },
      { partition: 2, sourceLba: 2_000_000, targetLba: 9, sectors: 1, files: [], tried: true },
    ]
    expect(textOf(renderToStaticMarkup(<CopySummaryPanel summary={{ ...summary, lost }} />))).toMatch(
      /Lost 24 sectors could not be read, in 1 file/,
    )
    const words = textOf(renderToStaticMarkup(<LostList lost={lost} />)).replaceAll('\u00a0', ' ')
    expect(words).toMatch(/\/Sound\/a\.wav\s*partition 2, sector 1 234 567\s+and 22 more/)
    expect(words).toMatch(/no file; the place belongs to none that can be told/)
  })
})
