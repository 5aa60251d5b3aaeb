import { expect, it, vi } from 'vitest'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { makeSystemDisk, sha256 } from '@/core/testing-disk'
import { showStation } from '../testing'
import { MapsLine } from './maps-line'

vi.mock('next/navigation', () => ({ useRouter: () => ({ push() {}, refresh() {} }) }))

const shown = (survey: DriveSurvey, being?: { title: string; files: number }) =>
  showStation(<MapsLine moveId="ticket-desk" survey={survey} being={being} />)

it('says of each volume whether its map was held against its files', async () => {
  const read = await surveyDrive(await makeSystemDisk(), sha256)
  const system = read.partitions.find((p) => p.role === 'system')!
  const withMap = (map: 'checked' | 'unchecked'): DriveSurvey => ({
    ...read,
    partitions: read.partitions.map((p) => (p.volume ? { ...p, volume: { ...p.volume, map } } : p)),
  })
  expect(shown(read).text).toMatch(/was not held against the files: .*Check it/)
  expect(shown(read, { title: 'C:', files: 12_000 }).text).toMatch(
    /being held against the files: 12.000 of C: looked at/,
  )
  expect(shown(withMap('checked')).text).toMatch(/^Every block that a file uses is in the map of used blocks: /)
  expect(shown(withMap('unchecked')).text).toMatch(/^The map of used blocks is believed/)
  // What a map misses is a finding; the line tells of the others only.
  const missed = withMap('checked').partitions.map((p) =>
    p.number === system.number ? { ...p, volume: { ...p.volume!, map: 'missed' as const } } : p,
  )
  expect(shown({ ...read, partitions: missed }).text).not.toContain(system.title)
  expect(shown({ ...read, partitions: [] }).markup).toBe('')
})
