import type { EntryType } from '../scheme/entry'
import { crc32 } from '../bytes/crc32'
import { MBR_TYPES } from '../scheme/mbr-layout'
import { TYPE_GUIDS } from '../scheme/types'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import type { Change, FitWish, Layout, Scheme } from './types'

const NO_ATTRIBUTES = '0'.repeat(16)

/** What a partition is called in the target's table. */
export interface Entry {
  readonly number: number
  readonly typeGuid: string
  readonly guid: string
  readonly name: string
  readonly attributes: string
  readonly mbr?: { readonly type: number; readonly active: boolean; readonly kind: 'primary' | 'logical' }
}

/** What the target's table says besides places. */
export interface Identity {
  readonly diskGuid: string
  readonly diskSignature: string
  /** The entry of each partition, by its number on the source. */
  readonly entries: ReadonlyMap<number, Entry>
  readonly extendedNumber: number
  readonly hybrid: Layout['hybrid']
  readonly changes: readonly Change[]
}

/**
 * Numbers, GUIDs, types and names on the target: the source's wherever the kind of table and the wish let them be,
 * since boot settings refer to them. What becomes another is in `changes`, with what refers to it.
 */
export function identityOf(
  survey: DriveSurvey,
  parts: readonly PartitionSurvey[],
  scheme: Scheme,
  wish: FitWish,
): Identity {
  const changes: Change[] = []
  const converted = survey.scheme !== scheme
  const seed = wish.identity?.seed.toLowerCase()
  const oldDisk = survey.table?.diskGuid ?? survey.mbr?.diskSignature ?? ''
  const diskGuid = scheme === 'mbr' ? '' : (seed ?? (converted ? guidFrom(oldDisk, 'disk') : oldDisk))
  const diskSignature =
    scheme === 'gpt' ? '' : seed ? seed.slice(0, 8) : converted ? signatureFrom(oldDisk) : survey.mbr!.diskSignature
  if (converted) {
    changes.push({
      partition: null,
      what: 'table',
      sentence:
        scheme === 'gpt'
          ? `The table becomes a GPT, and the drive gets the identity ${diskGuid} in place of ${oldDisk}. What starts by BIOS from an MBR does not start from it: it needs an EFI system partition, for which 100 MiB stay unallocated, and which Proof makes.`
          : `The table becomes an MBR, and the drive gets the signature ${diskSignature} in place of ${oldDisk}. Boot settings that name partitions by GUID have to be pointed anew, which Proof looks at.`,
    })
  } else if (seed) {
    changes.push({
      partition: null,
      what: 'disk identity',
      sentence: `The drive gets the identity ${scheme === 'gpt' ? diskGuid : diskSignature}, so that it can stay beside the old one. Boot settings name the old one, ${oldDisk}, and have to be pointed at this drive before it starts.`,
    })
  }
  const numbers = numbersFor(survey, parts, scheme, wish)
  const entries = new Map<number, Entry>()
  for (const part of parts) {
    const number = numbers.get(part.number)!
    const entry = entryFor(
      part,
      number,
      scheme,
      converted,
      wish.identity?.of === 'all' ? seed : undefined,
      diskSignature,
    )
    entries.set(part.number, entry)
    if (number !== part.number) {
      changes.push({
        partition: part.number,
        what: 'number',
        sentence: `${part.title} becomes partition ${number} instead of ${part.number}. Scripts and start-up files that count partitions mean another one then.`,
      })
    }
    if (scheme === 'gpt' && !converted && entry.guid !== part.guid) {
      changes.push({
        partition: part.number,
        what: 'partition identity',
        sentence: `${part.title} gets the GUID ${entry.guid}. ${refersToGuid(part)}`,
      })
    }
    if (converted) {
      const before = part.mbr ? hex(part.mbr.type) : part.typeGuid
      const after = entry.mbr ? hex(entry.mbr.type) : entry.typeGuid
      changes.push({
        partition: part.number,
        what: 'type',
        sentence: `The type of ${part.title} was ${before} and is written as ${after}.`,
      })
    }
  }
  const container = survey.partitions.find((p) => p.mbr?.kind === 'extended')
  const taken = new Set([...entries.values()].map((e) => e.number))
  const free = [1, 2, 3, 4].find((n) => !taken.has(n)) ?? 4
  const extendedNumber = container && !taken.has(container.number) && !wish.renumber ? container.number : free
  const hybrid =
    scheme === 'gpt' && !converted
      ? (survey.table?.hybrid ?? []).flatMap((h) => {
          const entry = entries.get(h.number)
          return entry ? [{ ...h, number: entry.number }] : []
        })
      : []
  return { diskGuid, diskSignature, entries, extendedNumber, hybrid, changes }
}

function refersToGuid(part: PartitionSurvey): string {
  if (part.role === 'boot') return 'The firmware’s entry names the old one, and has to be set to this drive.'
  if (part.role === 'system')
    return 'Boot settings name the old one, and have to be pointed at this drive before it starts.'
  return 'A system that mounts it by GUID has to be told.'
}

/** Numbers by the source's. Logical ones are counted from 5 by the systems themselves. */
function numbersFor(
  survey: DriveSurvey,
  parts: readonly PartitionSurvey[],
  scheme: Scheme,
  wish: FitWish,
): Map<number, number> {
  const numbers = new Map<number, number>()
  if (scheme === 'mbr') {
    const logical = parts.filter((p) => p.mbr?.kind === 'logical')
    logical.forEach((p, i) => numbers.set(p.number, 5 + i))
    const primary = parts.filter((p) => p.mbr?.kind !== 'logical')
    const keeps = !wish.renumber && survey.scheme === 'mbr'
    primary.forEach((p, i) => numbers.set(p.number, keeps ? p.number : i + 1))
    return numbers
  }
  const highest = Math.max(0, ...parts.map((p) => p.number))
  parts.forEach((p, i) => numbers.set(p.number, wish.renumber || highest > 128 ? i + 1 : p.number))
  return numbers
}

function entryFor(
  part: PartitionSurvey,
  number: number,
  scheme: Scheme,
  converted: boolean,
  seed: string | undefined,
  diskSignature: string,
): Entry {
  if (scheme === 'gpt') {
    const guid = seed ? guidFrom(part.guid, seed) : converted ? guidFrom(part.guid, String(number)) : part.guid
    if (!converted) return { number, typeGuid: part.typeGuid, guid, name: part.name, attributes: part.attributes }
    return { number, typeGuid: typeGuidFor(part), guid, name: '', attributes: NO_ATTRIBUTES }
  }
  const own =
    part.mbr &&
    ({
      type: part.mbr.type,
      active: part.mbr.active,
      kind: part.mbr.kind === 'logical' ? 'logical' : 'primary',
    } as const)
  const mbr = own ?? { type: mbrTypeFor(part), active: false, kind: 'primary' as const }
  const guid = `${diskSignature}-${String(number).padStart(2, '0')}`
  return { number, typeGuid: '', guid, name: '', attributes: NO_ATTRIBUTES, mbr }
}

const FROM_MBR: Readonly<Record<number, string>> = {
  [MBR_TYPES.recovery]: TYPE_GUIDS.recovery,
  [MBR_TYPES.linuxSwap]: TYPE_GUIDS.linuxSwap,
  [MBR_TYPES.linux]: TYPE_GUIDS.linuxData,
  [MBR_TYPES.linuxLvm]: TYPE_GUIDS.linuxLvm,
  [MBR_TYPES.hfs]: TYPE_GUIDS.appleHfs,
  [MBR_TYPES.efiSystem]: TYPE_GUIDS.efiSystem,
}

/** What a table of a kind says of the content of a partition, wherever that comes from. */
export function typeOn(scheme: string, partition: PartitionSurvey): EntryType {
  if (scheme === 'mbr') return { mbrType: partition.mbr?.type ?? mbrTypeFor(partition) }
  return { typeGuid: partition.typeGuid || typeGuidFor(partition) }
}

function typeGuidFor(part: Pick<PartitionSurvey, 'mbr'>): string {
  return FROM_MBR[part.mbr?.type ?? 0] ?? TYPE_GUIDS.basicData
}

const FROM_GPT: Readonly<Record<string, number>> = {
  [TYPE_GUIDS.efiSystem]: MBR_TYPES.efiSystem,
  [TYPE_GUIDS.recovery]: MBR_TYPES.recovery,
  [TYPE_GUIDS.linuxSwap]: MBR_TYPES.linuxSwap,
  [TYPE_GUIDS.linuxLvm]: MBR_TYPES.linuxLvm,
  [TYPE_GUIDS.appleHfs]: MBR_TYPES.hfs,
  [TYPE_GUIDS.linuxData]: MBR_TYPES.linux,
  [TYPE_GUIDS.linuxRoot]: MBR_TYPES.linux,
  [TYPE_GUIDS.linuxHome]: MBR_TYPES.linux,
  [TYPE_GUIDS.linuxBoot]: MBR_TYPES.linux,
  [TYPE_GUIDS.linuxLuks]: MBR_TYPES.linux,
}

function mbrTypeFor(part: Pick<PartitionSurvey, 'typeGuid' | 'volume'>): number {
  const known = FROM_GPT[part.typeGuid]
  if (known !== undefined) return known
  const kind = part.volume?.kind ?? ''
  if (kind === 'fat32') return MBR_TYPES.fat32Lba
  if (kind === 'fat16') return MBR_TYPES.fat16Lba
  return kind === 'fat12' ? MBR_TYPES.fat12 : MBR_TYPES.ntfs
}

/** A GUID that is the same each time for the same old identity and salt (RFC 9562, version 8). */
export function guidFrom(old: string, salt: string): string {
  const words = [0, 1, 2, 3].map((i) =>
    crc32(new TextEncoder().encode(`${i}${salt}${old}`))
      .toString(16)
      .padStart(8, '0'),
  )
  const digits = words.join('')
  return `${digits.slice(0, 8)}-${digits.slice(8, 12)}-8${digits.slice(13, 16)}-a${digits.slice(17, 20)}-${digits.slice(20)}`
}

function signatureFrom(old: string): string {
  return crc32(new TextEncoder().encode(old)).toString(16).padStart(8, '0')
}

function hex(type: number): string {
  return type.toString(16).toUpperCase().padStart(2, '0')
}
