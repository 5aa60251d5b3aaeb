import { clsx } from 'clsx'
import { Check, Minus, X } from 'lucide-react'
import type { TraceLink } from '@/core/boot/types'

const LOOKS = {
  passed: 'border-weed bg-weed text-sheet',
  failed: 'border-vermilion bg-vermilion text-sheet',
  unproved: 'border-ochre bg-sheet text-ochre',
  'not-reached': 'border-line-strong bg-sheet',
}
const WORDS = { passed: 'Passed', failed: 'Failed', unproved: 'Not followed', 'not-reached': 'Not reached' }

/** A start as a chain of links, each with what was found and the evidence under it. */
export function Chain({ links }: { links: readonly TraceLink[] }) {
  return (
    <ol className="panel px-[18px] pt-4 pb-1" data-testid="chain">
      {links.map((link, i) => (
        <li
          key={link.id}
          data-state={link.state}
          className="relative grid grid-cols-[24px_minmax(0,1fr)] gap-x-4 pb-4 sm:grid-cols-[24px_minmax(130px,190px)_minmax(0,1fr)]"
        >
          {i < links.length - 1 && (
            <span
              aria-hidden
              className={clsx(
                'absolute top-5 bottom-0 left-[10.5px] w-[3px]',
                link.state === 'passed' ? 'bg-weed' : 'bg-line',
              )}
            />
          )}
          <span
            className={clsx(
              'relative flex size-6 items-center justify-center rounded-full border-2',
              LOOKS[link.state],
            )}
          >
            {link.state === 'passed' && <Check size={14} strokeWidth={3} aria-hidden />}
            {link.state === 'unproved' && <Minus size={14} strokeWidth={3} aria-hidden />}
            {link.state === 'failed' && <X size={14} strokeWidth={3} aria-hidden />}
            <span className="sr-only">{WORDS[link.state]}</span>
          </span>
          <span className={clsx('text-[15px] font-bold', link.state === 'not-reached' && 'text-ink-soft')}>
            {link.title}
          </span>
          <span className="max-sm:col-start-2">
            <span
              className={clsx(
                'block',
                link.state === 'failed' && 'font-bold text-vermilion',
                link.state === 'not-reached' && 'text-ink-soft',
              )}
            >
              {link.found}
            </span>
            {link.evidence && (
              <span className="block font-mono text-[12.5px] break-words text-ink-soft">{link.evidence}</span>
            )}
            {link.why && <span className="mt-1.5 block">{link.why}</span>}
          </span>
        </li>
      ))}
    </ol>
  )
}
