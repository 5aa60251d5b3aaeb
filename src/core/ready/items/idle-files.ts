import { formatSize } from '../../bytes/size'
import type { ReadyKind } from '../port'

/** Page, hibernation and swap files: bytes that a system makes anew and nobody misses. */
export const idleFiles: ReadyKind = ({ source, surveyedAt, choices }) => {
  // Of a system that sleeps they hold what it had open, and always come along.
  const files = source.partitions.flatMap((p) => (p.idleFiles.some((f) => f.asleep) ? [] : p.idleFiles))
  if (files.length === 0 || choices.read === 'every') return []
  const bytes = formatSize(files.reduce((sum, f) => sum + f.sizeBytes, 0))
  const names = files.map((f) => f.path.slice(1)).join(', ')
  const base = { id: 'idle-files', state: 'settled', known: `read ${surveyedAt}` } as const
  if (choices.skipPageFiles) {
    return [
      {
        ...base,
        title: `${names} left out, ${bytes}`,
        why: 'every byte of it will read as zero; the system makes it anew',
        how: 'It can come along all the same.',
        action: { id: 'copy-page-files', label: 'Copy it too' },
      },
    ]
  }
  return [
    {
      ...base,
      title: `${names} ${files.length === 1 ? 'is' : 'are'} copied too, ${bytes}`,
      why: 'the system makes it anew',
      how: 'That can be left out, which takes less time.',
      action: { id: 'skip-page-files', label: 'Leave it out' },
    },
  ]
}
