'use client'

import { useRef, useState } from 'react'
import { ChevronDown } from 'lucide-react'
import { DropdownMenu } from 'radix-ui'
import { toast } from 'sonner'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { Button } from '@/ui/shared/button'
import { Dialog } from '@/ui/shared/dialog'
import { TextField } from '@/ui/shared/field'
import type { BenchProps } from './types'
import { useSaving } from '@/ui/shared/use-saving'

type Asked = 'new' | 'rename' | 'remove'

/** Which bench is shown; others, new ones, and benches as files. */
export function BenchMenu({ name, benches }: Pick<BenchProps, 'name' | 'benches'>) {
  const { act, busy } = useAct()
  const actions = useActions()
  const [asked, setAsked] = useState<Asked>()
  const file = useRef<HTMLInputElement>(null)
  const active = benches.find((b) => b.active)
  const take = async (chosen: File | undefined) => {
    if (!chosen) return
    const text = await chosen.text()
    await act(async () => {
      const response = await fetch('/api/benches/import', { method: 'POST', body: text })
      const answer = (await response.json()) as {
        ok: boolean
        sentence: string
        value: { name: string; described: number }
      }
      if (answer.ok) toast.success(importedWords(answer.value))
      return answer
    })
  }
  return (
    <>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger asChild>
          <Button disabled={busy} data-testid="bench-menu">
            <span className="flex items-center gap-1.5">
              {name}
              <ChevronDown size={15} aria-hidden />
            </span>
          </Button>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content align="end" sideOffset={6} className="panel z-50 w-64 p-1.5 shadow-lg">
            <DropdownMenu.RadioGroup value={active?.id} onValueChange={(id) => void act(() => actions.showBench(id))}>
              {benches.map((b) => (
                <DropdownMenu.RadioItem key={b.id} value={b.id} className={ITEM}>
                  {b.name}
                </DropdownMenu.RadioItem>
              ))}
            </DropdownMenu.RadioGroup>
            <DropdownMenu.Separator className="my-1 border-t border-line" />
            <DropdownMenu.Item className={ITEM} onSelect={() => setAsked('new')}>
              Make another bench
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} onSelect={() => setAsked('rename')}>
              Give this one another name
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} asChild>
              <a href={`/api/benches/${active?.id}/export`} download>
                Save it as a file
              </a>
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} onSelect={() => file.current?.click()}>
              Take one from a file
            </DropdownMenu.Item>
            {benches.length > 1 && (
              <DropdownMenu.Item className={`${ITEM} text-vermilion`} onSelect={() => setAsked('remove')}>
                Take this bench away
              </DropdownMenu.Item>
            )}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      <input
        ref={file}
        type="file"
        accept="application/json,.json"
        aria-label="Bench file"
        data-testid="bench-file"
        className="sr-only"
        tabIndex={-1}
        onChange={(e) => {
          void take(e.target.files?.[0])
          e.target.value = ''
        }}
      />
      {asked && <NameDialog key={asked} asked={asked} name={name} onClose={() => setAsked(undefined)} />}
    </>
  )
}

const ITEM =
  'block cursor-pointer rounded px-2 py-1.5 data-[highlighted]:bg-sunk data-[state=checked]:font-semibold data-[state=checked]:text-magenta'

function importedWords({ name, described }: { name: string; described: number }): string {
  if (described === 0) return `${name} is on the bench now.`
  return `${name} is on the bench now. ${described === 1 ? 'One drive is' : `${described} drives are`} only described: the bytes are not in the file.`
}

const WORDS: Record<Asked, { title: string; label: string; action: string }> = {
  new: { title: 'Another bench', label: 'Its name', action: 'Make it' },
  rename: { title: 'Another name for this bench', label: 'Its name', action: 'Keep this' },
  remove: { title: 'Take this bench away', label: 'Type its name', action: 'Take it away' },
}

function NameDialog({ asked, name, onClose }: { asked: Asked; name: string; onClose: () => void }) {
  const actions = useActions()
  const { save, busy, problem } = useSaving(onClose)
  const [typed, setTyped] = useState(asked === 'rename' ? name : '')
  const work = { new: actions.newBench, rename: actions.renameBench, remove: actions.removeBench }[asked]
  return (
    <Dialog
      {...WORDS[asked]}
      open
      onClose={onClose}
      onAct={() => void save(() => work(typed))}
      busy={busy}
      problem={problem}
      erases={asked === 'remove'}
    >
      {asked === 'remove' && (
        <p className="mb-3">
          {name} goes with its moves, its logbooks and its blank drives. Images stay in their folder. This cannot be
          undone.
        </p>
      )}
      <TextField label={WORDS[asked].label} value={typed} onChange={(e) => setTyped(e.target.value)} autoFocus />
    </Dialog>
  )
}
