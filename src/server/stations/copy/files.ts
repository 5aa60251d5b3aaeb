import { LostFileSchema } from '@/core/copy/lost-file'
import { summaryCsv } from '@/core/copy/summary-files'
import { driveName } from '@/core/things/drive'
import { Refusal } from '../../ground/refusals'
import { loadMove } from '../../moves'
import { progressOf } from '../../moves/legs'

/** What a leg's copy came to, as a file to keep. Throws Refusal when it is not done. */
export async function summaryFile(moveId: string, leg: number, as: 'json' | 'csv' | 'lost') {
  const move = await loadMove(moveId)
  const progress = await progressOf(move.row)
  const summary = progress?.copies[leg]?.summary
  if (!progress || !summary) throw new Refusal('leg-not-copied')
  const name = `${moveId}-leg-${leg + 1}`
  if (as === 'csv') return { name: `${name}.csv`, type: 'text/csv', text: summaryCsv(summary) }
  const { from, to } = progress.legs[leg].transfer
  const [source, target] = [from, to].map((end) => {
    const drive = move.bench.drives.find((d) => end.kind === 'drive' && d.id === end.driveId)
    if (!drive) throw new Refusal('leg-drive-gone')
    return { name: `${driveName(drive)}, ${drive.serial}`, sizeBytes: drive.sizeBytes }
  })
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
