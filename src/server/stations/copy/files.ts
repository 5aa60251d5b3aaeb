import { LostFileSchema } from '@/core/copy/lost-file'
import { summaryCsv } from '@/core/copy/summary-files'
import { driveName } from '@/core/things/drive'
import { Refusal } from '../../ground/refusals'
import { loadMove } from '../../moves'
import { mediumRead, mediumWritten, progressOf } from '../../moves/legs'

/** What a leg's copy came to, as a file to keep. Throws Refusal when it is not done. */
export async function summaryFile(moveId: string, leg: number, as: 'json' | 'csv' | 'lost') {
  const move = await loadMove(moveId)
  const progress = await progressOf(move.row)
  const summary = progress?.copies[leg]?.summary
  if (!progress || !summary) throw new Refusal('leg-not-copied')
  const name = `${moveId}-leg-${leg + 1}`
  if (as === 'csv') return { name: `${name}.csv`, type: 'text/csv', text: summaryCsv(summary) }
  const media = [mediumRead(move, progress.legs, leg), mediumWritten(move, progress.legs[leg].transfer, leg)]
  const [source, target] = media.map((medium) =>
    medium.kind === 'image'
      ? { name: medium.name, sizeBytes: medium.sizeBytes }
      : { name: `${driveName(medium.drive)}, ${medium.drive.serial}`, sizeBytes: medium.drive.sizeBytes },
  )
  const file =
    as === 'json'
      ? { source, target, ...summary }
      : LostFileSchema.parse({
          format: 'imbarco lost sectors',
          version: 1,
          work: summary.work,
          source,
          target,
          lost: summary.lost,
        })
  const suffix = as === 'json' ? 'summary' : 'lost'
  return { name: `${name}-${suffix}.json`, type: 'application/json', text: `${JSON.stringify(file, null, 2)}\n` }
}
