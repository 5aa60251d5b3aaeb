import { type Health, healthVerdict } from '../health/health'
import { copiedByMap } from './copied-by-map'
import type { DriveSurvey } from './types'

/** What a drive holds, as the object of "holds". */
export function contentWords(survey: DriveSurvey): string {
  const count = `${survey.partitions.length} ${survey.partitions.length === 1 ? 'partition' : 'partitions'}`
  const words: Record<DriveSurvey['scheme'], string> = {
    gpt: count,
    mbr: count,
    volume: 'a file system without a partition table',
    none: 'nothing',
    damaged: 'a damaged partition table and what may be behind it',
    unknown: 'something that cannot be told',
    unfinished: 'an unfinished copy',
  }
  return words[survey.scheme]
}

/** The partition table in a few words. */
export function schemeWords({ scheme, table, mbr }: DriveSurvey): string {
  switch (scheme) {
    case 'gpt': {
      const hybrid = table?.hybridMbr ? ', hybrid MBR' : ''
      if (table?.from === 'backup') return `GPT, from its backup${hybrid}`
      return table?.backupEntriesCrc === table?.entriesCrc
        ? `GPT, both copies agree${hybrid}`
        : `GPT, from its first copy${hybrid}`
    }
    case 'mbr':
      return `MBR, signature ${mbr?.diskSignature ?? ''}`
    case 'volume':
      return 'none: a file system from the first sector on'
    case 'none':
      return 'none, empty'
    case 'damaged':
      return 'damaged'
    case 'unknown':
      return 'none, not empty'
    case 'unfinished':
      return 'unfinished copy'
  }
}

/** Findings, those that matter most first; what belongs to a partition is said with its name. */
export function findingsOf(survey: DriveSurvey): DriveSurvey['findings'] {
  const rank = { damage: 0, caution: 1, note: 2 }
  const all = [
    ...survey.findings,
    ...survey.partitions.flatMap((p) => p.findings.map((f) => ({ ...f, sentence: `${p.title}: ${f.sentence}` }))),
  ]
  return all.sort((a, b) => rank[a.severity] - rank[b.severity])
}

/** What reading a drive came to, in a few words. A drive that fails is told before anything that is on it. */
export function headingOf(survey: DriveSurvey, health?: Health): string {
  const { scheme, partitions } = survey
  if (healthVerdict(health).state === 'failing') return 'The drive is failing'
  if (scheme === 'none') return 'The drive is empty'
  if (scheme === 'unknown') return 'The drive is not empty, and what is on it cannot be told'
  if (scheme === 'unfinished') return 'A copy to this drive did not end'
  const damage = findingsOf(survey).filter((f) => f.severity === 'damage')
  if (damage.length > 0) return damage.length === 1 ? 'One thing is damaged' : `${damage.length} things are damaged`
  const asleep = partitions.find((p) => p.idleFiles.some((file) => file.asleep))
  if (asleep) return `The system on ${asleep.title} is asleep`
  const dirty = partitions.find((p) => p.volume?.state === 'dirty')
  if (dirty) return `${dirty.title} was not closed cleanly`
  const systems = partitions.filter((p) => p.role === 'system')
  if (systems.length > 1) return `${systems.length} systems on one drive, and ${nothingWrong(survey)}`
  const [system] = systems
  if (!system?.volume)
    return `${contentWords(survey).replace(/^./, (c) => c.toUpperCase())}, and ${nothingWrong(survey)}`
  if (system.volume.encrypted) return `${system.title} is encrypted`
  const share = Math.round((system.volume.usedBytes / system.volume.totalBytes) * 100)
  return `${share} % of ${system.title} is used, and ${nothingWrong(survey)}`
}

/** "Sound" is said of maps that were held against the files; of others only what is known. */
function nothingWrong({ partitions }: DriveSurvey): string {
  const checked = partitions.every((p) => !copiedByMap(p) || p.volume?.map === 'checked')
  return checked ? 'all of it is sound' : 'nothing wrong was seen'
}

/** What is damaged, which systems a drive holds and what must not be left behind. */
export function reasonOf(survey: DriveSurvey, health?: Health): string {
  const { partitions, scheme } = survey
  const verdict = healthVerdict(health)
  const failing = verdict.state === 'failing' ? `${verdict.reason} ` : ''
  const damage = findingsOf(survey).find((f) => f.severity === 'damage')
  return [`${failing}${damage?.sentence ?? ''}`, contentReason(partitions, scheme)].join(' ').trim()
}

function contentReason(partitions: DriveSurvey['partitions'], scheme: DriveSurvey['scheme']): string {
  const real = partitions.filter((p) => p.role !== 'extended')
  if (real.length === 0) return scheme === 'none' ? 'Nothing was ever written to it, or only zeros.' : ''
  const systems = real.flatMap((p) =>
    p.system ? [`${p.title} holds ${[p.system.name, p.system.version].filter(Boolean).join(' ')}.`] : [],
  )
  const hidden = real.filter((p) => !p.hasLetter).length
  const letters =
    hidden > 0 && scheme !== 'volume'
      ? `${hidden === 1 ? 'One hidden partition is' : `${hidden} hidden partitions are`} copied too.`
      : ''
  return [...systems, letters].filter(Boolean).join(' ')
}
