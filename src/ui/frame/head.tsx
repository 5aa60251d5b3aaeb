'use client'

import { Link } from '@/ui/frame/link'
import { usePathname } from 'next/navigation'
import { type ReactNode, useEffect, useState } from 'react'
import { clsx } from 'clsx'
import { Moon, Sun } from 'lucide-react'
import { DropdownMenu } from 'radix-ui'
import { useAct } from './act'
import { useActions } from './actions'
import { useProgress } from './events'
import { Keys } from './keys'
import { Palette } from './palette'
import { switchTheme } from './theme'

/** What the head shows of the bench. */
export interface HeadState {
  /** Bench time when the page was made, in milliseconds of a calendar without zones. */
  readonly benchNow: number
  /** How fast bench time runs; null where it is that of the clock. */
  readonly pace: '1' | '30' | 'max' | null
  /** The name of the bench that is shown. */
  readonly bench: string
  /** It is the one that comes with the program, of made-up things. */
  readonly isDemo: boolean
  /** Its drives are those of this computer. */
  readonly isSeen: boolean
  /** Disks that are lent over the network, and addresses that ask for one. */
  readonly lent: { readonly count: number; readonly asking: number }
}

export const PACE_NAMES = { '1': '×1', '30': '×30', max: 'as fast as it goes' } as const

/** The bar on top: mark, where one is, bench clock, palette. */
export function Head({
  state,
  move,
  menu,
}: {
  state: HeadState
  move?: { id: string; title: string }
  menu?: ReactNode
}) {
  return (
    <header className="no-print flex h-[52px] items-center gap-2.5 border-b border-line bg-sheet px-3 sm:gap-4 sm:px-5">
      <Link href="/" className="flex items-center gap-2.5" aria-label="Imbarco, all moves">
        <Mark />
        <span className="hidden text-[17px] font-[720] [font-stretch:118%] sm:inline">Imbarco</span>
      </Link>
      <nav
        aria-label="Places"
        className="flex min-w-0 items-center gap-2 overflow-x-auto text-[14px] sm:gap-2.5 sm:text-[15px] whitespace-nowrap [scrollbar-width:none]"
      >
        {move ? (
          <>
            <Link href="/" className="hidden text-ink-soft hover:text-ink sm:inline">
              Moves
            </Link>
            <span className="hidden text-ink-soft sm:inline" aria-hidden>
              /
            </span>
            <span className="truncate font-semibold">{move.title}</span>
            {menu}
            <span className="ml-3 hidden gap-2.5 xl:flex">
              <Place href="/bench">Bench</Place>
              <Place href="/images">Images</Place>
            </span>
          </>
        ) : (
          <>
            <Place href="/">Moves</Place>
            <Place href="/bench">Bench</Place>
            <Place href="/images">Images</Place>
            <Place href="/shelf">Shelf</Place>
            <Place href="/past">Past</Place>
          </>
        )}
      </nav>
      <div className="ml-auto flex shrink-0 items-center gap-1 sm:gap-4">
        <LentMark {...state.lent} />
        <BenchMark name={state.bench} isDemo={state.isDemo} isSeen={state.isSeen} />
        <BenchClock benchNow={state.benchNow} pace={state.pace} />
        <ThemeSwitch />
        <Keys />
        <Palette currentMove={move?.id} />
      </div>
    </header>
  )
}

function Place({ href, children }: { href: string; children: string }) {
  const path = usePathname()
  const here =
    path === href ||
    (href !== '/' && path.startsWith(`${href}/`)) ||
    (href === '/bench' && /^\/(drives|computers)\//.test(path))
  return (
    <Link
      href={href}
      aria-current={here ? 'page' : undefined}
      className={clsx(here ? 'font-semibold' : 'text-ink-soft hover:text-ink')}
    >
      {children}
    </Link>
  )
}

/** Something is lent over the network; whoever asks waits for an answer on its page. */
function LentMark({ count, asking }: HeadState['lent']) {
  if (count === 0) return null
  return (
    <Link
      href="/lent"
      className={clsx(
        'rounded-full border px-2.5 py-0.5 text-[13px] whitespace-nowrap',
        asking > 0 ? 'border-magenta font-semibold text-magenta' : 'hidden border-line-strong text-ink-soft sm:block',
      )}
    >
      {asking > 0 ? `${asking} ${asking === 1 ? 'asks' : 'ask'} to read` : `${count} lent`}
    </Link>
  )
}

/** Which bench this is: the demo is told apart from one's own at a glance. */
function BenchMark({ name, isDemo, isSeen }: { name: string; isDemo: boolean; isSeen: boolean }) {
  return (
    <Link
      href="/bench"
      className={clsx(
        'hidden max-w-[180px] truncate rounded-full border px-2.5 py-0.5 text-[13px] lg:block',
        isDemo
          ? 'border-dashed border-line-strong text-ink-soft'
          : isSeen
            ? 'border-ink bg-ink font-semibold text-sheet'
            : 'border-ink font-semibold',
      )}
      title={
        isDemo
          ? `The bench ${name}: made up, for trying things out`
          : isSeen
            ? 'The drives that are plugged into this computer: what is written to them is written'
            : `The bench ${name}`
      }
    >
      {isDemo ? `Demo: ${name}` : isSeen ? 'Real drives' : name}
    </Link>
  )
}

function Mark() {
  return (
    <svg width="24" height="20" viewBox="0 0 24 20" aria-hidden>
      <path d="M1 13 12 3h10" fill="none" stroke="var(--magenta)" strokeWidth="3" />
      <path d="M9 13.5 15 8h7v5.5z" fill="var(--sea-3)" />
      <path d="M1 17.5h22" stroke="var(--ink)" strokeWidth="2" />
    </svg>
  )
}

/** Bench time and its pace; time goes on by itself between readings of the server. */
function BenchClock({ benchNow, pace }: { benchNow: number; pace: HeadState['pace'] }) {
  const { act } = useAct()
  const { setPace } = useActions()
  const [time, setTime] = useState(benchNow)
  useEffect(() => {
    const start = Date.now()
    const timer = setInterval(() => setTime((shown) => Math.max(shown, benchNow + Date.now() - start)), 1000)
    return () => clearInterval(timer)
  }, [benchNow])
  // While bytes move, bench time runs ahead of real time.
  useProgress((_move, _progress, now) => setTime(now))
  const clock = <span suppressHydrationWarning>{new Date(time).toISOString().slice(11, 16)}</span>
  if (pace === null) return <span className="px-1.5 font-mono text-[13px] text-ink-soft max-sm:hidden">{clock}</span>
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        data-testid="pace"
        className="rounded px-1.5 py-1 font-mono text-[13px] whitespace-nowrap text-ink-soft hover:bg-sunk max-sm:hidden"
      >
        {clock}
        <span> bench clock {PACE_NAMES[pace]}</span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={6} className="panel z-50 w-72 p-1.5 shadow-lg">
          <p className="px-2 py-1.5 text-[13px] text-ink-soft">
            How fast bench time runs while bytes move. The drives here are models; their speeds decide how long a copy
            takes.
          </p>
          <DropdownMenu.RadioGroup value={pace} onValueChange={(value) => void act(() => setPace(value))}>
            {Object.entries(PACE_NAMES).map(([value, name]) => (
              <DropdownMenu.RadioItem
                key={value}
                value={value}
                className="flex cursor-pointer items-center justify-between rounded px-2 py-1.5 data-[highlighted]:bg-sunk data-[state=checked]:font-semibold"
              >
                {name}
                <DropdownMenu.ItemIndicator>
                  <span className="text-magenta">●</span>
                </DropdownMenu.ItemIndicator>
              </DropdownMenu.RadioItem>
            ))}
          </DropdownMenu.RadioGroup>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  )
}

function ThemeSwitch() {
  return (
    <button
      type="button"
      onClick={switchTheme}
      aria-label="Day or night"
      className="rounded p-1.5 text-ink-soft hover:bg-sunk"
    >
      <Sun size={16} className="hidden [[data-theme=night]_&]:block" aria-hidden />
      <Moon size={16} className="[[data-theme=night]_&]:hidden" aria-hidden />
    </button>
  )
}
