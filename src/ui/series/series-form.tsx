'use client'

import { useRouter } from 'next/navigation'
import { useState } from 'react'
import { upperFirst } from '@/core/words'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { Link } from '@/ui/frame/link'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { ChoiceField, TextField } from '@/ui/shared/field'

interface Named {
  readonly id: string
  readonly name: string
}

interface SeriesFormProps {
  readonly benchName: string
  readonly images: readonly string[]
  /** Drives in bays that hold a system. */
  readonly drives: readonly (Named & { serial: string; place: string })[]
  readonly computers: readonly (Named & { model: string })[]
  /** Drives that are empty and nobody's. */
  readonly targets: readonly (Named & { serial: string; place: string })[]
}

interface Line {
  readonly key: number
  readonly computerId: string
  readonly targetId: string
}

const ofImage = (name: string) => `image ${name}`
const ofDrive = (id: string) => `drive ${id}`

/** What a choice of the list names. */
function fromOf(choice: string): { image: string } | { driveId: string } {
  const name = choice.slice(choice.indexOf(' ') + 1)
  return choice === ofImage(name) ? { image: name } : { driveId: name }
}

/** A new series: one image or drive, and a list of computers each with its own drive. */
export function SeriesForm({ benchName, images, drives, computers, targets }: SeriesFormProps) {
  const router = useRouter()
  const { act, busy } = useAct()
  const { newSeries } = useActions()
  const [from, setFrom] = useState(images[0] === undefined ? '' : ofImage(images[0]))
  const [names, setNames] = useState({ name: '', customer: '' })
  const [lines, setLines] = useState<readonly Line[]>([{ key: 0, computerId: '', targetId: '' }])
  const complete =
    from !== '' &&
    names.name.trim() !== '' &&
    names.customer.trim() !== '' &&
    lines.every((l) => l.computerId !== '' && l.targetId !== '')
  const isTaken = (of: 'computerId' | 'targetId', id: string, key: number) =>
    lines.some((l) => l.key !== key && l[of] === id)
  const change = (key: number, to: Partial<Line>) =>
    setLines((now) => now.map((l) => (l.key === key ? { ...l, ...to } : l)))
  const add = () => setLines((now) => [...now, { key: now.at(-1)!.key + 1, computerId: '', targetId: '' }])
  const open = () =>
    void act(async () => {
      const answer = await newSeries({
        ...names,
        from: fromOf(from),
        members: lines.map(({ computerId, targetId }) => ({ computerId, targetId })),
      })
      if (answer.ok && answer.value) router.push(`/series/${answer.value}`)
      return answer
    })
  return (
    <Stage
      heading="One system onto several computers"
      reason="Each computer gets a drive of its own, laid out for its size, with an identity that no other one has. Nothing is written before a plate is typed."
      aside={
        <AsideBlock title="What comes of it">
          <p className="text-[13.5px] text-ink-soft">
            Every drive is made from one image, or from a drive that stays in its bay. One that is elsewhere can be{' '}
            <Link href="/images" className="underline underline-offset-2">
              captured
            </Link>{' '}
            first. A move for each computer, on the bench {benchName}. As many drives are written at once as there are
            bays; the next one is asked for as soon as a bay is free.
          </p>
        </AsideBlock>
      }
      next={
        <NextAction
          label="Open the series"
          onAct={open}
          disabled={busy || !complete}
          hint={
            complete ? undefined : 'It needs a name, a customer, an image or a drive, and a drive for each computer.'
          }
        />
      }
    >
      {(computers.length === 0 || targets.length === 0) && (
        <div className="mb-4">
          <Callout>
            {computers.length === 0
              ? 'There is no computer on this bench yet. Describe them on the Bench page first.'
              : 'There is no empty drive on this bench that is nobody’s. Add them on the Bench page first.'}
          </Callout>
        </div>
      )}
      <div className="panel grid gap-4 p-[18px] sm:grid-cols-2">
        <TextField
          label="What the series is called"
          value={names.name}
          onChange={(event) => setNames({ ...names, name: event.target.value })}
        />
        <TextField
          label="Customer"
          value={names.customer}
          onChange={(event) => setNames({ ...names, customer: event.target.value })}
        />
        <ChoiceField label="Made from" value={from} onChange={(event) => setFrom(event.target.value)}>
          <option value="" disabled>
            Choose it
          </option>
          {images.map((name) => (
            <option key={name} value={ofImage(name)}>
              {name}
            </option>
          ))}
          {drives.map((d) => (
            <option key={d.id} value={ofDrive(d.id)}>
              {d.name}, {d.serial}, {d.place}
            </option>
          ))}
        </ChoiceField>
      </div>
      <h2 className="caption mt-5 mb-2">The computers</h2>
      <ol className="panel divide-y divide-line" data-testid="lines">
        {lines.map(({ key, computerId, targetId }, i) => (
          <li
            key={key}
            className="grid items-end gap-3 px-[18px] py-3 sm:grid-cols-[minmax(0,1fr)_minmax(0,1.4fr)_auto]"
          >
            <ChoiceField
              label={`Computer ${i + 1}`}
              value={computerId}
              onChange={(event) => change(key, { computerId: event.target.value })}
            >
              <option value="" disabled>
                Choose it
              </option>
              {computers.map((c) => (
                <option key={c.id} value={c.id} disabled={isTaken('computerId', c.id, key)}>
                  {upperFirst(c.name)}, {c.model}
                </option>
              ))}
            </ChoiceField>
            <ChoiceField
              label={`Its drive ${i + 1}`}
              value={targetId}
              onChange={(event) => change(key, { targetId: event.target.value })}
            >
              <option value="" disabled>
                Choose it
              </option>
              {targets.map((d) => (
                <option key={d.id} value={d.id} disabled={isTaken('targetId', d.id, key)}>
                  {d.name}, {d.serial}, {d.place}
                </option>
              ))}
            </ChoiceField>
            <Button disabled={lines.length === 1} onClick={() => setLines((now) => now.filter((l) => l.key !== key))}>
              Leave out<span className="sr-only"> computer {i + 1}</span>
            </Button>
          </li>
        ))}
      </ol>
      <div className="mt-3">
        <Button onClick={add}>Another computer</Button>
      </div>
    </Stage>
  )
}
