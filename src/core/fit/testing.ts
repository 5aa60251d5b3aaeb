import { TYPE_GUIDS } from '../scheme/types'
import type { DriveSurvey, PartitionSurvey, VolumeSurvey } from '../survey/types'

/** A partition for a made-up survey. */
export interface MadePart {
  readonly role: PartitionSurvey['role']
  readonly sectors: number
  readonly used?: number
  /** Mebibytes left free in front of it. */
  readonly gap?: number
  readonly mbr?: { readonly type: number; readonly kind: 'primary' | 'logical'; readonly active?: boolean }
  readonly volume?: Partial<VolumeSurvey> | null
}

/** A survey as it would be of a drive with these partitions, of which volumes are NTFS unless said otherwise. */
export function surveyWith(parts: readonly MadePart[], sizeBytes: number, scheme: 'gpt' | 'mbr' = 'gpt'): DriveSurvey {
  let next = 2048
  const sector = 512
  const partitions = parts.map(({ role, sectors, used, gap, mbr, volume }, i): PartitionSurvey => {
    const lead = mbr?.kind === 'logical' ? 2048 : 0
    const firstLba = next + lead + (gap ?? 0) * 2048
    next = Math.ceil((firstLba + sectors) / 2048) * 2048
    const bytes = sectors * sector
    const usedBytes = used ?? Math.floor(bytes / 2)
    const logicalBefore = parts.slice(0, i).filter((p) => p.mbr?.kind === 'logical').length
    return {
      number: mbr?.kind === 'logical' ? 5 + logicalBefore : i + 1,
      typeGuid: scheme === 'gpt' ? TYPE_GUIDS.basicData : '',
      guid: scheme === 'gpt' ? `00000000-0000-4000-8000-${String(i).padStart(12, '0')}` : `1a2b3c4d-0${i + 1}`,
      name: '',
      attributes: '0000000000000000',
      ...(scheme === 'mbr'
        ? {
            mbr: {
              type: mbr?.type ?? 7,
              active: mbr?.active ?? false,
              kind: mbr?.kind ?? 'primary',
              recordLba: lead > 0 ? firstLba - 2048 : 0,
            },
          }
        : {}),
      firstLba,
      lastLba: firstLba + sectors - 1,
      startBytes: firstLba * sector,
      sizeBytes: bytes,
      aligned: true,
      role,
      hasLetter: true,
      title: role,
      ...(volume === null
        ? {}
        : {
            volume: {
              kind: 'ntfs',
              name: 'NTFS',
              label: '',
              serial: '',
              clusterSize: 4096,
              totalBytes: bytes,
              usedBytes,
              smallestBytes: usedBytes,
              state: 'clean' as const,
              depth: 'files' as const,
              encrypted: false,
              canGrow: role === 'system' || role === 'data',
              canShrink: false,
              anySectors: false,
              ...volume,
            },
          }),
      idleFiles: [],
      findings: [],
    }
  })
  return {
    sizeBytes,
    logicalSectorSize: 512,
    scheme,
    ...(scheme === 'gpt'
      ? {
          table: {
            diskGuid: '91f0c1d2-1111-4222-8333-4444555533c7',
            from: 'primary' as const,
            entriesCrc: 0,
            backupEntriesCrc: 0,
            backupLba: 0,
            protectiveMbr: true,
            hybridMbr: false,
            hybrid: [],
            entryCount: 128,
            entrySize: 128,
          },
        }
      : { mbr: { diskSignature: '1a2b3c4d', hasBootCode: true, activePartition: 1 } }),
    partitions,
    gaps: [],
    loaders: [],
    usedBytes: 0,
    profile: [],
    fingerprint: '',
    findings: [],
  }
}

/** Room for a volume that can be made smaller. */
export const SHRINKS = (least: number): Partial<VolumeSurvey> => ({
  canGrow: true,
  canShrink: true,
  shrunkBytes: least,
  shrunkMargin: 'a hundredth stays free',
})
