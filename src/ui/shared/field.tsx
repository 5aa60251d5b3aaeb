import { type InputHTMLAttributes, type ReactNode, type SelectHTMLAttributes, useId } from 'react'

const LOOK = 'w-full rounded-md border border-line-strong bg-sheet px-2.5 py-1.5'

/** A labelled line of text. */
export function TextField({ label, ...rest }: { label: string } & InputHTMLAttributes<HTMLInputElement>) {
  const id = useId()
  return (
    <div>
      <label htmlFor={id} className="mb-0.5 block text-[13px] text-ink-soft">
        {label}
      </label>
      <input id={id} {...rest} className={LOOK} />
    </div>
  )
}

/** A labelled choice of one. */
export function ChoiceField({
  label,
  children,
  ...rest
}: { label: string; children: ReactNode } & SelectHTMLAttributes<HTMLSelectElement>) {
  const id = useId()
  return (
    <div>
      <label htmlFor={id} className="mb-0.5 block text-[13px] text-ink-soft">
        {label}
      </label>
      <select id={id} {...rest} className={LOOK}>
        {children}
      </select>
    </div>
  )
}

/** A labelled tick. */
export function TickField({ label, ...rest }: { label: string } & InputHTMLAttributes<HTMLInputElement>) {
  return (
    <label className="flex items-center gap-2 py-1">
      <input type="checkbox" {...rest} className="size-4 accent-[var(--magenta)]" />
      {label}
    </label>
  )
}
