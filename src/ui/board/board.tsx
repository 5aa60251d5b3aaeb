import { Link } from '@/ui/frame/link'
import { clsx } from 'clsx'
import type { BoardMove } from '@/core/move/stations'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { counted } from '@/core/words'
import { Facts } from '@/ui/shared/facts'
import { FindForm } from '@/ui/shared/find-form'
import { type LogLine, Logbook } from '@/ui/shared/logbook'
import { type UnfinishedUpload, Uploads } from '@/ui/images/uploads'
import { OpenFirst } from './open-first'

interface BoardProps {
  readonly bench: string
  /** Those that are shown. */
  readonly moves: readonly BoardMove[]
  readonly find: string
  /** How many more there are. */
  readonly hidden: number
  readonly totals: Readonly<Record<BoardMove['tone'], number>>
  /** The first that needs someone. */
  readonly first: Pick<BoardMove, 'id' | 'name'> | null
  readonly berths: readonly { name: string; holds: string; empty: boolean }[]
  readonly shelf: readonly { name: string; due: string; past: boolean }[]
  readonly series: readonly { id: string; name: string; of: number; done: number }[]
  readonly lines: readonly LogLine[]
  readonly unfinished: readonly UnfinishedUpload[]
  /** No computer is on the bench. */
  readonly bare: boolean
}

const NUMBERS = [
  'No move',
  'One move',
  'Two moves',
  'Three moves',
  'Four moves',
  'Five moves',
  'Six moves',
  'Seven moves',
  'Eight moves',
]

/** All moves of the shop, what each waits for, and what is on the bench. */
export function Board(props: BoardProps) {
  const { bench, moves, berths, shelf, lines, find, hidden, totals, first } = props
  const none = moves.length + hidden === 0 && !find
  const { runs, 'needs-you': waiting, 'not-yet': notYet } = totals
  const heading = none
    ? 'Nothing is moved here yet'
    : waiting === 0
      ? 'Nothing needs you'
      : `${NUMBERS[waiting] ?? `${waiting} moves`} ${waiting === 1 ? 'needs' : 'need'} you`
  const reason = none
    ? `The bench ${bench} has no move. Begin with the disk or with the computer; both lead to the same.`
    : [
        runs === 0 ? 'No copy is running.' : runs === 1 ? 'One copy is running.' : `${runs} copies are running.`,
        notYet > 0 ? `${notYet} cannot be carried out on this bench yet; each says why.` : '',
      ].join(' ')
  return (
    <Stage
      heading={heading}
      reason={reason}
      tools={
        <>
          <Link
            data-action
            href="/series/new"
            className="rounded-md border border-line-strong bg-sheet px-3.5 py-2 font-semibold hover:bg-sunk"
          >
            New series
          </Link>
          <Link
            data-action
            href="/moves/new"
            className="rounded-md border border-line-strong bg-sheet px-3.5 py-2 font-semibold hover:bg-sunk"
          >
            New move
          </Link>
        </>
      }
      aside={
        <>
          <AsideBlock title="On the bench">
            {berths.length === 0 && <p className="text-ink-soft">Nothing.</p>}
            <Facts
              facts={berths.map(({ name, holds, empty }) => ({
                name,
                value: empty ? <span className="text-ink-soft">{holds}</span> : holds,
              }))}
            />
          </AsideBlock>
          {props.series.length > 0 && (
            <AsideBlock title="Series">
              <ul className="space-y-1.5">
                {props.series.map(({ id, name, of, done }) => (
                  <li key={id} className="flex justify-between gap-3">
                    <Link href={`/series/${id}`} className="font-semibold text-sea-4 underline underline-offset-2">
                      {name}
                    </Link>
                    <span className="text-ink-soft">
                      {done} of {of} done
                    </span>
                  </li>
                ))}
              </ul>
            </AsideBlock>
          )}
          <AsideBlock title="On the shelf">
            {shelf.length === 0 ? (
              <p className="text-ink-soft">Nothing.</p>
            ) : (
              <Facts
                facts={shelf.map(({ name, due, past }) => ({
                  name,
                  value: past ? <span className="font-semibold text-magenta">{due}</span> : due,
                }))}
              />
            )}
            {shelf.some((s) => s.past) && (
              <Link href="/shelf" className="mt-2 inline-block font-semibold text-sea-4 underline underline-offset-2">
                Erase what may be erased
              </Link>
            )}
          </AsideBlock>
          <AsideBlock title="Logbook">
            <Logbook lines={lines} />
          </AsideBlock>
        </>
      }
      next={first && <OpenFirst href={`/moves/${first.id}`} label={`Open ${first.name}`} />}
    >
      {none ? (
        <Beginnings bare={props.bare} />
      ) : (
        <FindForm
          path="/"
          label="Find a move"
          placeholder="Name, customer or drive"
          find={find}
          hidden={hidden > 0 ? counted(hidden, 'move') : ''}
        />
      )}
      <ul className={clsx('panel divide-y divide-line', none && 'hidden')} data-testid="moves">
        {moves.map((move) => (
          <li key={move.id} data-testid={`move-${move.id}`}>
            <Link
              href={`/moves/${move.id}`}
              className="grid grid-cols-1 items-center gap-x-4 gap-y-1 px-[18px] py-3.5 hover:bg-paper md:grid-cols-[minmax(150px,1fr)_minmax(190px,1.25fr)_150px_minmax(190px,1.3fr)]"
            >
              <span>
                <span className="block text-[15px] font-bold">{move.name}</span>
                <span className="block text-[13px] text-ink-soft">{move.customer}</span>
              </span>
              <span className="text-[13.5px]">
                <span className="block">{move.from}</span>
                <span className="block text-ink-soft">{move.to}</span>
              </span>
              <Course stops={move.rail} muted={move.tone === 'not-yet'} />
              <span className="flex items-baseline justify-between gap-3 text-[13.5px]">
                <span
                  className={clsx(
                    move.tone === 'needs-you' && 'font-semibold text-magenta',
                    move.tone === 'runs' && 'font-semibold text-sea-4',
                    move.tone === 'done' && 'font-semibold text-weed',
                    move.tone === 'not-yet' && 'text-ink-soft',
                  )}
                >
                  {move.status}
                </span>
                <span className="shrink-0 text-right font-mono text-[12.5px] text-ink-soft">{move.when}</span>
              </span>
            </Link>
            {move.copied && (
              <Link
                href={`/moves/${move.id}/copy`}
                aria-label={`Result of the copy, ${move.name}`}
                className="-mt-2.5 block px-[18px] pb-3 text-[13px] text-sea-4 underline underline-offset-2 md:ml-auto md:w-fit"
              >
                Result of the copy
              </Link>
            )}
          </li>
        ))}
      </ul>
      <div className="mt-4">
        <Uploads
          unfinished={props.unfinished}
          words="A disk of your own? Drop its image anywhere on this page, or choose it, to look inside or to move its system."
          choose="Choose an image"
        />
      </div>
    </Stage>
  )
}

/** What to do first on a bench without moves. */
function Beginnings({ bare }: { bare: boolean }) {
  const link = 'font-semibold text-sea-4 underline underline-offset-2'
  return (
    <ol className="grid gap-4 md:grid-cols-2" data-testid="beginnings">
      <li className="panel p-[18px]">
        <h2 className="mb-1.5 text-[17px] font-bold">From a disk</h2>
        <p>
          Drop its image below, or take one that is in the{' '}
          <Link href="/images" className={link}>
            images folder
          </Link>
          . What is on it tells which computer it came out of; you name the new drive by its serial and capacity.
        </p>
      </li>
      <li className="panel p-[18px]">
        <h2 className="mb-1.5 text-[17px] font-bold">From a computer</h2>
        <p>
          {bare ? 'Describe it on the ' : 'Take one of the '}
          <Link href="/bench" className={link}>
            Bench
          </Link>
          {bare ? ', with its slots and what sits in them, then open a ' : ', or open a '}
          <Link href="/moves/new" className={link}>
            new move
          </Link>{' '}
          with it.
        </p>
      </li>
    </ol>
  )
}

/** The nine stations in small. */
function Course({ stops, muted }: { stops: BoardMove['rail']; muted: boolean }) {
  const done = stops.filter((stop) => stop.state === 'done').length
  return (
    <svg
      width="146"
      height="16"
      viewBox="0 0 146 16"
      role="img"
      aria-label={`${done} of ${stops.length} stations done`}
    >
      <line x1="8" x2="138" y1="8" y2="8" stroke="var(--line-strong)" strokeWidth="1.5" />
      <line x1="8" x2={8 + Math.min(done, 8) * 16.25} y1="8" y2="8" stroke="var(--sea-3)" strokeWidth="2" />
      {stops.map((stop, i) => (
        <circle
          key={stop.id}
          cx={8 + i * 16.25}
          cy="8"
          r={stop.state === 'current' && !muted ? 5.5 : 4.5}
          fill={stop.state === 'done' ? 'var(--sea-3)' : 'var(--sheet)'}
          stroke={
            stop.state === 'done'
              ? 'var(--sea-3)'
              : stop.state === 'current' && !muted
                ? 'var(--magenta)'
                : 'var(--line-strong)'
          }
          strokeWidth={stop.state === 'current' && !muted ? 3 : 1.8}
        />
      ))}
    </svg>
  )
}
