import { expect, it, vi } from 'vitest'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { makeSystemDisk, sha256 } from '@/core/testing-disk'
import { showStation } from '../testing'
import { MapCheckLine } from './map-check-line'

vi.mock('next/navigation', () => ({ useRouter: () => ({ push() {}, refresh() {} }) }))

const shown = (survey: DriveSurvey, progress?: { title: string; files: number }) =>
  showStation(<MapCheckLine moveId="ticket-desk" survey={survey} progress={progress} />)

it('tells for each volume whether its used-block map was checked', async () => {
  const read = await surveyDrive(await makeSystemDisk(), sha256)
  const system = read.partitions.find((p) => p.role === 'system')!
  const withMap = (map: 'checked' | 'unchecked'): DriveSurvey => ({
    ...read,
    partitions: read.partitions.map((p) => (p.volume ? { ...p, volume: { ...p.volume, map } } : p)),
  })
  expect(shown(read).text).toMatch(/not checked against the files: .*Check now/)
  expect(shown(read, { title: 'C:', files: 12_000 }).text).toMatch(/against the files: 12.000 files of C: so far/)
  expect(shown(withMap('checked')).text).toMatch(/^Used-block maps match the files: /)
  expect(shown(withMap('unchecked')).text).toMatch(/cannot be checked here are trusted/)
  // What a map misses is a finding; the line tells of the others only.
  const missed = withMap('checked').partitions.map((p) =>
    p.number === system.number ? { ...p, volume: { ...p.volume!, map: 'missed' as const } } : p,
  )
  expect(shown({ ...read, partitions: missed }).text).not.toContain(system.title)
  expect(shown({ ...read, partitions: [] }).markup).toBe('')
})
