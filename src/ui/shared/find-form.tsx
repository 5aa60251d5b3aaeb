import { Link } from '@/ui/frame/link'
import { Button } from './button'

interface FindFormProps {
  /** The page that shows what was found. */
  readonly path: string
  readonly label: string
  readonly placeholder: string
  readonly find: string
  /** What the page does not show, in words; empty where it shows all there is. */
  readonly hidden: string
}

/** Looks for something on a page that cannot show everything, and tells what is not shown. Nothing where there is nothing to look for. */
export function FindForm({ path, label, placeholder, find, hidden }: FindFormProps) {
  if (!hidden && !find) return null
  return (
    <form role="search" action={path} className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
      <input
        key={find}
        name="find"
        defaultValue={find}
        aria-label={label}
        placeholder={placeholder}
        maxLength={80}
        className="min-h-9 w-72 max-w-full rounded-md border border-line-strong bg-paper px-2.5"
      />
      <Button type="submit">Find</Button>
      <p className="text-ink-soft">
        {hidden && `Not shown: ${hidden}. `}
        {find && (
          <Link href={path} className="font-semibold text-sea-4 underline underline-offset-2">
            Show all
          </Link>
        )}
      </p>
    </form>
  )
}
