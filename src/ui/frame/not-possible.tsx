import Link from 'next/link'

/** A page that has only a sentence to say, and the way back. */
export function NotPossible({
  heading = 'This move is not possible yet',
  sentence,
}: {
  heading?: string
  sentence: string
}) {
  return (
    <main className="mx-auto flex min-h-dvh max-w-xl flex-col justify-center gap-4 px-6">
      <h1 data-testid="finding">{heading}</h1>
      <p className="text-[15.5px] text-ink-soft">{sentence}</p>
      <p>
        <Link href="/" className="font-semibold text-magenta underline">
          Back to all moves
        </Link>
      </p>
    </main>
  )
}
