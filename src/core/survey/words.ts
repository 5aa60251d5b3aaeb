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
      return table?.backupEntriesCrc === table?.entriesCrc
        ? `GPT, both copies agree${hybrid}`
        : `GPT, from the ${table?.from} copy${hybrid}`
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
