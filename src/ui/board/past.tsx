import { Form, Link } from '@/ui/frame/link'
import { Stage } from '@/ui/frame/stage'

interface PastProps {
  readonly bench: string
  readonly query: string
  readonly total: number
  readonly found: readonly {
    readonly id: string
    readonly name: string
    readonly customer: string
    readonly computer: string
    readonly drives: readonly { readonly name: string; readonly serial: string }[]
    readonly day: string
    /** Why it was given up; null of one that was handed over. */
    readonly givenUp: string | null
  }[]
}

/** Moves that were handed over or given up, found by customer, serial or computer. */
export function Past({ bench, query, total, found }: PastProps) {
  const heading =
    total === 0
      ? 'No move has come to its end yet'
      : query === ''
        ? endedWords(total, found.filter((move) => move.givenUp !== null).length)
        : found.length === 0
          ? 'None of them'
          : `${found.length} of ${total} ${total === 1 ? 'move' : 'moves'}`
  return (
    <Stage heading={heading} reason={`Past moves of the bench ${bench}, the newest first.`}>
      <Form action="/past" className="mb-4 flex max-w-xl gap-3">
        <label className="sr-only" htmlFor="past-q">
          Customer, serial or computer
        </label>
        <input
          id="past-q"
          name="q"
          defaultValue={query}
          maxLength={80}
          placeholder="Customer, serial or computer"
          className="min-w-0 flex-1 rounded-md border border-line-strong bg-sheet px-3 py-2"
        />
        <button
          type="submit"
          className="rounded-md border border-line-strong bg-sheet px-3.5 py-2 font-semibold hover:bg-sunk"
        >
          Search
        </button>
      </Form>
      {found.length > 0 && (
        <ul className="panel divide-y divide-line" data-testid="past">
          {found.map((move) => (
            <li key={move.id}>
              <Link
                href={move.givenUp === null ? `/moves/${move.id}/handover` : `/moves/${move.id}`}
                className="grid items-center gap-x-6 gap-y-1 px-[18px] py-3.5 hover:bg-paper md:grid-cols-[minmax(0,1fr)_minmax(0,1fr)_minmax(0,1.4fr)_auto]"
              >
                <span>
                  <span className="block text-[15px] font-bold">{move.name}</span>
                  <span className="block text-[13px] text-ink-soft">{move.customer}</span>
                </span>
                <span className="text-[13.5px]">{move.computer}</span>
                <span>
                  {move.drives.map((d) => (
                    <span key={d.serial} className="block text-[13.5px]">
                      {d.name} <span className="font-mono text-[12.5px] text-ink-soft">{d.serial}</span>
                    </span>
                  ))}
                </span>
                <span className="text-[12.5px] text-ink-soft">
                  <span className="block font-mono">{move.day}</span>
                  {move.givenUp !== null && <span className="block">given up: {move.givenUp}</span>}
                </span>
              </Link>
            </li>
          ))}
        </ul>
      )}
    </Stage>
  )
}

function endedWords(total: number, givenUp: number): string {
  const words = `${total} ${total === 1 ? 'move was' : 'moves were'}`
  if (givenUp === 0) return `${words} handed over`
  return givenUp === total ? `${words} given up` : `${total - givenUp} handed over, ${givenUp} given up`
}
