import { Link } from '@/ui/frame/link'

const BUTTON = 'rounded-md border border-line-strong bg-sheet px-3.5 py-2 font-semibold hover:bg-sunk'

/** Where the page of a drive or an image leads on. */
export function LookTools({
  subject: { kind, id },
  moves,
}: {
  subject: { readonly kind: 'drives' | 'images'; readonly id: string }
  /** Its system can be moved from here. */
  moves: boolean
}) {
  const name = encodeURIComponent(id)
  return (
    <>
      <Link data-action href={`/${kind}/${name}/start`} className={BUTTON}>
        Follow the start
      </Link>
      <Link data-action href={`/lent?kind=${kind}&id=${name}`} className={BUTTON}>
        Lend it
      </Link>
      {moves && (
        <Link data-action href={`/moves/new?${kind === 'drives' ? 'drive' : 'image'}=${name}`} className={BUTTON}>
          Move this system
        </Link>
      )}
    </>
  )
}
