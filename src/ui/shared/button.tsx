import type { ButtonHTMLAttributes } from 'react'
import { clsx } from 'clsx'

interface ButtonProps extends ButtonHTMLAttributes<HTMLButtonElement> {
  readonly tone?: 'plain' | 'erases'
  readonly small?: boolean
}

/** Any button but the one magenta one. */
export function Button({ tone = 'plain', small, className, ...rest }: ButtonProps) {
  return (
    <button
      type="button"
      {...rest}
      className={clsx(
        'rounded-md border border-line-strong bg-sheet font-semibold hover:bg-sunk disabled:opacity-60',
        small ? 'px-2.5 py-0.5 text-[13px]' : 'px-3.5 py-2',
        tone === 'erases' && 'text-vermilion',
        className,
      )}
    />
  )
}
