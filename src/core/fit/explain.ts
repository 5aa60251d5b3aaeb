import { formatSize, GIB, MIB } from '../bytes/size'
import { MBR_SECTORS } from '../scheme/mbr-layout'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import { lowerFirst } from '../words'
import { howToTake, limitsOf } from './limits'
import { fitSizes, type FitNote, type FitPartition, type FitWish, type Layout } from './types'

/** A system with less of its volume free than this runs into trouble soon. */
const LITTLE_FREE = 0.05

/** What a fit comes to, as a customer would understand it, and what there is to know about it. */
export function explain(
  survey: DriveSurvey,
  layout: Layout,
  wish: FitWish,
): { headline: string; reason: string; notes: FitNote[] } {
  const { partitions } = layout
  const change = (p: FitPartition) => fitSizes(p, layout).after - fitSizes(p, layout).before
  const grown = partitions.filter((p) => change(p) > 0)
  const shrunk = partitions.filter((p) => change(p) < 0)
  const unallocated = layout.gaps.reduce((sum, gap) => sum + gap.sizeBytes, 0)
  const growth = grown.reduce((sum, p) => sum + change(p), 0)
  const given = shrunk.reduce((sum, p) => sum - change(p), 0)
  const spare = growth + unallocated
  const tight = layout.targetSizeBytes < layout.sourceSizeBytes
  const headline = tight
    ? spareIn(layout) >= MIB
      ? `It fits, with ${roundGib(spareIn(layout))} to spare`
      : 'It just fits'
    : spare >= MIB
      ? `It fits, with ${roundGib(spare)} to spare`
      : 'It fits exactly'
  const sentences = [
    ...grown.map(
      (p) => `${p.resizes ? p.title : `The partition of ${p.title}`} grows from ${sizes(p, layout).join(' to ')}.`,
    ),
    ...shrunk.map((p) => `${p.title} shrinks from ${sizes(p, layout).join(' to ')}.`),
  ]
  if (shrunk.length > 0 && given >= MIB)
    sentences.push('What lies behind the new end moves forward; no file is left out.')
  const last = grown.at(-1)
  const moved = partitions.filter((p) => last && p.firstLba > last.firstLba && startOf(p, layout) !== homeOf(p, layout))
  if (moved.length > 0 && !wish.order) {
    const names = moved.map((p) => p.title).join(' and ')
    sentences.push(`${names} ${moved.length === 1 ? 'moves' : 'move'} to the end so the growth is one piece.`)
  }
  if (unallocated > 0) sentences.push(`${formatSize(unallocated)} stays unallocated.`)
  if (sentences.length === 0) {
    const elsewhere = partitions.filter((p) => startOf(p, layout) !== homeOf(p, layout))
    sentences.push(
      elsewhere.length === 0
        ? 'Every partition keeps its size and its place.'
        : `Every partition keeps its size; ${elsewhere.map((p) => p.title).join(' and ')} ${elsewhere.length === 1 ? 'gets' : 'get'} another place.`,
    )
  }
  return { headline, reason: sentences.join(' '), notes: notesOn(survey, layout, wish) }
}

/** Of a partition that grows around a volume which does not: what is left, and how its system takes it. */
export function roomUnused(source: PartitionSurvey, p: FitPartition, layout: Layout): string | undefined {
  const { before, after } = fitSizes(p, layout)
  if (after <= before || !source.volume || p.resizes) return undefined
  return `${p.title} itself stays ${formatSize(before)}: what is added to its partition stays unused until ${howToTake(source)}.`
}

function notesOn(survey: DriveSurvey, layout: Layout, wish: FitWish): FitNote[] {
  const notes: FitNote[] = []
  const sources = new Map(survey.partitions.map((s) => [s.number, s]))
  const sourceOf = (p: FitPartition) => sources.get(p.sourceNumber)!
  for (const p of layout.partitions) {
    const source = sourceOf(p)
    const { after } = fitSizes(p, layout)
    const { notNow } = limitsOf(source)
    const asked = wish.rules[p.sourceNumber] ?? 'keep'
    if (notNow && asked !== 'keep') notes.push({ tone: 'caution', sentence: notNow })
    if (source.volume?.everySector) {
      notes.push({
        tone: 'caution',
        sentence: `Every sector of ${p.title} is copied: ${lowerFirst(source.volume.everySector)}`,
      })
    }
    const free = after - p.usedBytes
    if (p.role === 'system' && p.resizes && free < after * LITTLE_FREE) {
      const share = Math.max(0, Math.floor((free / after) * 100))
      notes.push({
        tone: 'caution',
        sentence: `${p.title} is left with ${formatSize(Math.max(0, free))} free, ${share} % of it. A system needs room to work and for its updates.`,
      })
    }
    const unused = roomUnused(source, p, layout)
    if (unused) notes.push({ tone: 'note', sentence: unused })
    if (asked === 'fill' && p.mostBytes !== undefined && after > p.mostBytes - layout.sectorSize * 2048) {
      notes.push({
        tone: 'note',
        sentence: `${p.title} is as large as ${source.volume!.name} with its clusters can be.`,
      })
    }
  }
  const filling = layout.partitions.filter((p) => p.rule === 'fill')
  if (filling.length > 1) {
    notes.push({
      tone: 'note',
      sentence: `${filling.map((p) => p.title).join(' and ')} share what is left in equal parts.`,
    })
  }
  const reach = MBR_SECTORS * layout.sectorSize
  const beyond = layout.targetSizeBytes - reach
  if (layout.scheme === 'mbr' && beyond > MIB) {
    notes.push({
      tone: 'caution',
      sentence: `An MBR reaches ${formatSize(reach)} far; ${formatSize(beyond)} of this drive cannot be used with it. A GPT reaches all of it.`,
    })
  }
  if (survey.table?.hybridMbr && layout.hybrid.length < (survey.table.hybrid ?? []).length) {
    notes.push({
      tone: 'caution',
      sentence: 'The MBR named partitions a second time that do not come along; it names fewer on the target.',
    })
  }
  if (layout.sectorSize !== layout.sourceSectorSize) {
    notes.push({
      tone: 'note',
      sentence: `The target has sectors of ${layout.sectorSize} bytes and the source of ${layout.sourceSectorSize}; what is on it does not count in them and is carried over as it is.`,
    })
  }
  return notes
}

/** Room that nothing needs: unallocated, and in partitions beyond their least. */
function spareIn(layout: Layout): number {
  const inside = layout.partitions.reduce((sum, p) => {
    const { after } = fitSizes(p, layout)
    return sum + (p.rule === 'fill' || p.rule === 'share' ? Math.max(0, after - p.leastBytes) : 0)
  }, 0)
  return inside + layout.gaps.reduce((sum, gap) => sum + gap.sizeBytes, 0)
}

const startOf = (p: FitPartition, { sectorSize }: Layout) => p.firstLba * sectorSize
const homeOf = (p: FitPartition, { sourceSectorSize }: Layout) => p.sourceFirstLba * sourceSectorSize

function sizes(p: FitPartition, layout: Layout): [string, string] {
  const { before, after } = fitSizes(p, layout)
  return [formatSize(before), formatSize(after)]
}

function roundGib(bytes: number): string {
  const gib = bytes / GIB
  return gib >= 10 && gib < 1024 ? `${Math.floor(gib)} GiB` : formatSize(bytes)
}
