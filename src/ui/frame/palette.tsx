'use client'

import { useRouter } from 'next/navigation'
import { useEffect, useState } from 'react'
import { Command } from 'cmdk'
import { STATIONS } from '@/core/move/stations'
import { useAct } from './act'
import { useActions } from './actions'
import { switchTheme } from './theme'

export interface PaletteMove {
  readonly id: string
  readonly title: string
}

const itemClass = 'flex items-center rounded px-3 py-2 data-[selected=true]:bg-magenta-wash'

/** A thing is offered when every word typed stands in its name, in any order. */
function everyWord(name: string, typed: string): number {
  const words = typed.toLowerCase().split(/\s+/)
  return words.every((word) => name.toLowerCase().includes(word)) ? 1 : 0
}

/** Everything in one list, on Ctrl K. */
export function Palette({ moves, currentMove }: { moves: readonly PaletteMove[]; currentMove?: string }) {
  const [open, setOpen] = useState(false)
  const router = useRouter()
  const { act } = useAct()
  const { setPace } = useActions()
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== 'k' || !(event.ctrlKey || event.metaKey)) return
      event.preventDefault()
      setOpen((was) => !was)
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [])
  const run = (work: () => void) => () => {
    setOpen(false)
    work()
  }
  const go = (path: string) => run(() => router.push(path))
  return (
    <>
      <button
        type="button"
        onClick={() => setOpen(true)}
        className="flex items-center gap-1.5 rounded px-1 py-1 text-[15px] whitespace-nowrap text-ink-soft hover:text-ink"
      >
        <span className="hidden md:inline">Find or do</span>
        <kbd className="rounded border border-line-strong bg-sunk px-1.5 text-xs">Ctrl K</kbd>
      </button>
      <Command.Dialog
        open={open}
        onOpenChange={setOpen}
        label="Find or do"
        filter={everyWord}
        overlayClassName="fixed inset-0 z-40 bg-black/40"
        contentClassName="panel fixed top-[12vh] left-1/2 z-50 w-[min(560px,94vw)] -translate-x-1/2 overflow-hidden shadow-xl"
      >
        <Command.Input
          placeholder="A move, a station, something to do"
          className="w-full border-b border-line bg-transparent px-4 py-3 text-[15px] outline-none"
        />
        <Command.List className="max-h-[50vh] overflow-y-auto p-2">
          <Command.Empty className="px-3 py-4 text-ink-soft">Nothing by that name.</Command.Empty>
          {currentMove && (
            <Command.Group
              heading="This move"
              className="[&_[cmdk-group-heading]]:caption [&_[cmdk-group-heading]]:px-3 [&_[cmdk-group-heading]]:py-1.5"
            >
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
          <Command.Group
            heading="Go to"
            className="[&_[cmdk-group-heading]]:caption [&_[cmdk-group-heading]]:px-3 [&_[cmdk-group-heading]]:py-1.5"
          >
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
            <Command.Item value="past moves handed over search" onSelect={go('/past')} className={itemClass}>
              Past moves
            </Command.Item>
            <Command.Item value="bench drives" onSelect={go('/bench')} className={itemClass}>
              Bench
            </Command.Item>
            {moves.map(({ id, title }) => (
              <Command.Item key={id} value={`move ${title}`} onSelect={go(`/moves/${id}`)} className={itemClass}>
                {title}
              </Command.Item>
            ))}
          </Command.Group>
          <Command.Group
            heading="Do"
            className="[&_[cmdk-group-heading]]:caption [&_[cmdk-group-heading]]:px-3 [&_[cmdk-group-heading]]:py-1.5"
          >
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
