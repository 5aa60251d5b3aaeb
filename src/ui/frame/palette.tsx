'use client'

import { useRouter } from 'next/navigation'
import { useEffect, useState } from 'react'
import { clsx } from 'clsx'
import { Command } from 'cmdk'
import { Search } from 'lucide-react'
import { STATIONS } from '@/core/move/stations'
import { useAct } from './act'
import { useActions } from './actions'
import { switchTheme } from './theme'

/** Something of the bench that can be gone to, as the server finds it. */
interface FoundThing {
  readonly kind: 'move' | 'drive' | 'computer' | 'image'
  readonly title: string
  readonly detail: string
  readonly href: string
}

const GROUPS = [
  ['move', 'Moves'],
  ['drive', 'Drives'],
  ['computer', 'Computers'],
  ['image', 'Images'],
] as const

/** What the page that is open can do, by the words of its buttons. */
interface PageAction {
  readonly label: string
  readonly button: HTMLElement
}

/** More than that is a list of things, not of actions. */
const MOST_ACTIONS = 24

/** Buttons, and links that stand among them. */
const PAGE_ACTIONS = 'main button, aside button, main a[data-action]'

function actionsOfPage(): PageAction[] {
  const found = new Map<string, HTMLElement>()
  for (const button of document.querySelectorAll<HTMLElement>(PAGE_ACTIONS)) {
    const label = button.innerText
      .replace(/\s*Enter$/, '')
      .replace(/\s+/g, ' ')
      .trim()
    const isAction =
      !button.matches(':disabled') &&
      !button.closest('table, svg, [role="menu"]') &&
      !button.hasAttribute('aria-pressed')
    if (isAction && label !== '' && label.length <= 60 && !found.has(label)) found.set(label, button)
  }
  return [...found].slice(0, MOST_ACTIONS).map(([label, button]) => ({ label, button }))
}

/** The page may have drawn its buttons anew since. */
function clickAction(label: string, button: HTMLElement): void {
  const now = button.isConnected ? button : actionsOfPage().find((action) => action.label === label)?.button
  now?.click()
}

/** Typing is followed at this distance. */
const ASK_AFTER_MS = 120
const LOOK_AGAIN_MS = 250

const groupClass = '[&_[cmdk-group-heading]]:caption [&_[cmdk-group-heading]]:px-3 [&_[cmdk-group-heading]]:py-1.5'
const itemClass = 'flex items-center rounded px-3 py-2 data-[selected=true]:bg-magenta-wash'

/** A thing is offered when every word typed stands in its name, in any order. */
function everyWord(name: string, typed: string): number {
  const words = typed.toLowerCase().split(/\s+/)
  return words.every((word) => name.toLowerCase().includes(word)) ? 1 : 0
}

/** Everything in one list, on Ctrl K. */
export function Palette({ currentMove }: { currentMove?: string }) {
  const [open, setOpen] = useState(false)
  const [typed, setTyped] = useState('')
  const [things, setThings] = useState<readonly FoundThing[]>([])
  const [actions, setActions] = useState<readonly PageAction[]>([])
  const router = useRouter()
  const { act } = useAct()
  const { setPace } = useActions()
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== 'k' || !(event.ctrlKey || event.metaKey)) return
      event.preventDefault()
      show(document.querySelector('[cmdk-root]') === null)
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [])
  useEffect(() => {
    if (!open) return
    // What the page can do changes while it works on something.
    const timer = setInterval(() => {
      const now = actionsOfPage()
      const text = (all: readonly PageAction[]) => all.map((a) => a.label).join('\n')
      setActions((before) => (text(before) === text(now) ? before : now))
    }, LOOK_AGAIN_MS)
    return () => clearInterval(timer)
  }, [open])
  useEffect(() => {
    if (!open) return
    const abort = new AbortController()
    const timer = setTimeout(
      async () => {
        try {
          const answer = await fetch(`/api/find?${new URLSearchParams({ q: typed })}`, { signal: abort.signal })
          const { ok, value } = (await answer.json()) as { ok: boolean; value: readonly FoundThing[] }
          if (ok) setThings(value)
        } catch {
          // The next letter asks again; what is on this page can be chosen all the same.
        }
      },
      typed === '' ? 0 : ASK_AFTER_MS,
    )
    return () => {
      clearTimeout(timer)
      abort.abort()
    }
  }, [open, typed])
  function show(isOpen: boolean) {
    // Taken while the page is still in front.
    if (isOpen) setActions(actionsOfPage())
    setTyped('')
    setOpen(isOpen)
  }
  const run = (work: () => void) => () => {
    setOpen(false)
    work()
  }
  const go = (path: string) => run(() => router.push(path))
  return (
    <>
      <button
        type="button"
        onClick={() => show(true)}
        className="flex items-center gap-1.5 rounded px-1 py-1 text-[15px] whitespace-nowrap text-ink-soft hover:text-ink"
      >
        <span className="hidden md:inline">Find or do</span>
        <kbd className="hidden rounded border border-line-strong bg-sunk px-1.5 text-xs md:inline">Ctrl K</kbd>
        <Search className="size-4 md:hidden" aria-label="Find or do" />
      </button>
      <Command.Dialog
        open={open}
        onOpenChange={show}
        label="Find or do"
        filter={everyWord}
        overlayClassName="fixed inset-0 z-40 bg-black/40"
        contentClassName="panel fixed top-[12vh] left-1/2 z-50 w-[min(560px,94vw)] -translate-x-1/2 overflow-hidden shadow-xl"
      >
        <Command.Input
          value={typed}
          onValueChange={setTyped}
          placeholder="A move, a drive by its serial, an image, something to do"
          className="w-full border-b border-line bg-transparent px-4 py-3 text-[15px] outline-none"
        />
        <Command.List className="max-h-[50vh] overflow-y-auto p-2">
          <Command.Empty className="px-3 py-4 text-ink-soft">Nothing by that name.</Command.Empty>
          {currentMove && (
            <Command.Group heading="This move" className={groupClass}>
              {STATIONS.map(({ id, title }) => (
                <Command.Item
                  key={id}
                  value={`station ${title}`}
                  onSelect={go(`/moves/${currentMove}/${id}`)}
                  className={itemClass}
                >
                  {title}
                </Command.Item>
              ))}
            </Command.Group>
          )}
          {GROUPS.map(([kind, heading]) => {
            const found = things.filter((thing) => thing.kind === kind)
            return (
              found.length > 0 && (
                <Command.Group key={kind} heading={heading} className={groupClass}>
                  {found.map(({ href, title, detail }) => (
                    <Command.Item
                      key={href}
                      value={`${kind} ${title} ${detail} ${href}`}
                      onSelect={go(href)}
                      className={clsx(itemClass, 'gap-3')}
                    >
                      <span className="min-w-0 truncate">{title}</span>
                      <span className="ml-auto shrink-0 text-[13px] text-ink-soft">{detail}</span>
                    </Command.Item>
                  ))}
                </Command.Group>
              )
            )
          })}
          {actions.length > 0 && (
            <Command.Group heading="On this page" className={groupClass}>
              {actions.map(({ label, button }) => (
                <Command.Item
                  key={label}
                  value={`page ${label}`}
                  onSelect={run(() => setTimeout(() => clickAction(label, button)))}
                  className={itemClass}
                >
                  {label}
                </Command.Item>
              ))}
            </Command.Group>
          )}
          <Command.Group heading="Go to" className={groupClass}>
            <Command.Item value="all moves board" onSelect={go('/')} className={itemClass}>
              All moves
            </Command.Item>
            <Command.Item value="new move open" onSelect={go('/moves/new')} className={itemClass}>
              New move
            </Command.Item>
            <Command.Item value="images files disks" onSelect={go('/images')} className={itemClass}>
              Images
            </Command.Item>
            <Command.Item value="shelf old drives erase" onSelect={go('/shelf')} className={itemClass}>
              Shelf
            </Command.Item>
            <Command.Item value="lent lend over the network borrow" onSelect={go('/lent')} className={itemClass}>
              Lent over the network
            </Command.Item>
            <Command.Item value="past moves handed over search" onSelect={go('/past')} className={itemClass}>
              Past moves
            </Command.Item>
            <Command.Item value="bench drives" onSelect={go('/bench')} className={itemClass}>
              Bench
            </Command.Item>
          </Command.Group>
          <Command.Group heading="Do" className={groupClass}>
            <Command.Item value="day night theme" onSelect={run(switchTheme)} className={itemClass}>
              Change between day and night
            </Command.Item>
            <Command.Item
              value="bench clock x1"
              onSelect={run(() => void act(() => setPace('1')))}
              className={itemClass}
            >
              Bench clock: as in reality, ×1
            </Command.Item>
            <Command.Item
              value="bench clock x30"
              onSelect={run(() => void act(() => setPace('30')))}
              className={itemClass}
            >
              Bench clock: ×30
            </Command.Item>
            <Command.Item
              value="bench clock max fast"
              onSelect={run(() => void act(() => setPace('max')))}
              className={itemClass}
            >
              Bench clock: as fast as it goes
            </Command.Item>
          </Command.Group>
        </Command.List>
      </Command.Dialog>
    </>
  )
}
