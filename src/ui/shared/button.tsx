import type { ButtonHTMLAttributes } from 'react'
import { clsx } from 'clsx'

interface ButtonProps extends ButtonHTMLAttributes<HTMLButtonElement> {
  readonly tone?: 'plain' | 'erases'
  readonly small?: boolean
}

/** A small button that is only a picture; its label is for those who do not see it, and for a pointer that waits. */
export function IconButton({ label, ...rest }: { label: string } & ButtonHTMLAttributes<HTMLButtonElement>) {
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      {...rest}
      className="rounded p-1 text-ink-soft hover:bg-sheet hover:text-ink disabled:opacity-60"
    />
  )
}

/** Any button but the one magenta one. */
export function Button({ tone = 'plain', small, className, ...rest }: ButtonProps) {
  return (
    <button
      type="button"
      {...rest}
      className={clsx(
        'rounded-md border border-line-strong bg-sheet font-semibold hover:bg-sunk disabled:opacity-60',
        'aria-pressed:border-ink aria-pressed:bg-ink aria-pressed:text-paper',
        small ? 'px-2.5 py-0.5 text-[13px]' : 'px-3.5 py-2',
        tone === 'erases' && 'text-vermilion',
        className,
      )}
    />
  )
}
