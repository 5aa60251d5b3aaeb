interface ProgressBarProps {
  readonly label: string
  /** 0 to 1; undefined while the whole is not known. */
  readonly share?: number
  readonly note?: string
}

/** How far something is, with its numbers in monospace so that they do not jump about. */
export function ProgressBar({ label, share, note }: ProgressBarProps) {
  return (
    <div className="mt-1.5 flex items-center gap-3">
      <div
        role="progressbar"
        aria-label={label}
        aria-valuemin={0}
        aria-valuemax={100}
        aria-valuenow={share === undefined ? undefined : Math.round(share * 100)}
        className="h-2 flex-1 overflow-hidden rounded bg-sunk"
      >
        <div className="h-full bg-sea-3" style={{ width: `${(share ?? 0.02) * 100}%` }} />
      </div>
      {note && <span className="font-mono text-[12.5px] whitespace-nowrap text-ink-soft">{note}</span>}
    </div>
  )
}
