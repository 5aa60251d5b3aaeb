import { clsx } from 'clsx'
import { CircleAlert, Info, TriangleAlert } from 'lucide-react'
import type { Finding } from '@/core/findings'

const LOOKS = {
  note: { Icon: Info, tone: 'text-sea-4', word: 'Note' },
  caution: { Icon: TriangleAlert, tone: 'text-ochre', word: 'Caution' },
  damage: { Icon: CircleAlert, tone: 'text-vermilion', word: 'Damage' },
} as const

/** What was noticed, each with its evidence. */
export function FindingList({ findings }: { findings: readonly Finding[] }) {
  return (
    <ul className="space-y-2">
      {findings.map(({ code, severity, sentence, evidence }, i) => {
        const { Icon, tone, word } = LOOKS[severity]
        return (
          <li key={`${code}-${i}`} className="flex gap-2.5">
            <Icon size={16} className={clsx('mt-0.5 shrink-0', tone)} aria-label={word} />
            <span>
              {sentence}
              {evidence && <span className="block font-mono text-[12.5px] text-ink-soft">{evidence}</span>}
            </span>
          </li>
        )
      })}
    </ul>
  )
}
