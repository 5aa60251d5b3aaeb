import { Link } from '@/ui/frame/link'

/** A page that has only a sentence to say, and the way back. */
export function NotPossible({
  heading = 'This move is not possible yet',
  sentence,
  links = [],
}: {
  heading?: string
  sentence: string
  /** What can be looked at all the same. */
  links?: readonly { readonly label: string; readonly href: string }[]
}) {
  return (
    <main className="mx-auto flex min-h-dvh max-w-xl flex-col justify-center gap-4 px-6">
      <h1 data-testid="finding">{heading}</h1>
      <p className="text-[15.5px] text-ink-soft">{sentence}</p>
      {links.map(({ label, href }) => (
        <p key={href}>
          <Link href={href} className="font-semibold text-sea-4 underline">
            {label}
          </Link>
        </p>
      ))}
      <p>
        <Link href="/" className="font-semibold text-magenta underline">
          Back to all moves
        </Link>
      </p>
    </main>
  )
}
