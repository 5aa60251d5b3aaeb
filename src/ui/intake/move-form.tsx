'use client'

import { useRouter } from 'next/navigation'
import { zodResolver } from '@hookform/resolvers/zod'
import { useFieldArray, useForm, useWatch } from 'react-hook-form'
import { type Brief, BriefSchema, mayStay, type Reason, REASONS, whyNotTaken } from '@/core/intake/brief'
import { upperFirst } from '@/core/words'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { ChoiceField, TextField, TickField } from '@/ui/shared/field'

interface DriveChoice {
  readonly id: string
  readonly name: string
  readonly serial: string
  readonly place: string
  /** The computer that it sits in. */
  readonly computerId: string | null
  /** It never leaves that. */
  readonly builtIn: boolean
  /** What its bytes tell: the system on it, or what it holds. */
  readonly holds: string
  readonly isSystem: boolean
  readonly systems: readonly { readonly partition: number; readonly title: string; readonly name: string }[]
  readonly isEmpty: boolean
  /** The day until which it is the way back of an earlier move. */
  readonly keptUntil: string | null
  /** The move that it belongs to already. */
  readonly usedBy: string | null
  readonly sizeBytes: number
}

export interface MoveFormProps {
  readonly computers: readonly { readonly id: string; readonly name: string; readonly model: string }[]
  readonly drives: readonly DriveChoice[]
  readonly hasHost: boolean
  /** The move that is changed; a new one without. */
  readonly moveId?: string
  readonly brief: Brief
}

/** A new move, or another answer to what an old one is about. What the drives tell is filled in. */
export function MoveForm({ computers, drives, hasHost, moveId, brief }: MoveFormProps) {
  const { act, busy } = useAct()
  const { newMove, changeMove } = useActions()
  const router = useRouter()
  const form = useForm<Brief>({ resolver: zodResolver(BriefSchema) as never, defaultValues: brief })
  const { control, register, setValue, handleSubmit, formState } = form
  const pairs = useFieldArray({ control, name: 'pairs' })
  const now = useWatch({ control }) as Brief
  const isFixed = now.pairs.some((p) => drives.find((d) => d.id === p.sourceId)?.builtIn)
  /** What is built in stays; what was said of an old drive that is not asked for any more means nothing. */
  const settled = (brief: Brief): Brief => ({
    ...brief,
    oldDrive: mayStay(brief) && (isFixed || brief.oldDrive === 'stays') ? 'stays' : undefined,
  })
  const complete = now.computerId !== '' && now.pairs.every((p) => p.sourceId !== '' && p.targetId !== '')
  const contradiction = complete ? whyNotTaken(settled(now)) : undefined
  const inComputer = drives.filter((d) => d.computerId === now.computerId)
  const sources = [...inComputer, ...drives.filter((d) => d.computerId === null)]

  /** The system's drive onto one that is empty and nobody's; into a virtual machine go all drives. */
  const pairsFor = (computerId: string, virtual: boolean): Brief['pairs'] => {
    const own = drives.filter((d) => d.computerId === computerId)
    const system = own.find((d) => d.isSystem) ?? own[0]
    if (virtual && system) {
      return [system, ...own.filter((d) => d !== system)].map((d) => ({ sourceId: d.id, targetId: null }))
    }
    const blank = drives.find((d) => d.isEmpty && !d.usedBy && d.computerId === null && d.keptUntil === null)
    return [{ sourceId: system?.id ?? '', targetId: virtual ? null : (blank?.id ?? '') }]
  }
  const takeComputer = (id: string) => {
    setValue('computerId', id)
    setValue('pairs', pairsFor(id, now.toVirtualMachine))
    const name = computers.find((c) => c.id === id)?.name
    if (name && !formState.dirtyFields.name) setValue('name', upperFirst(name))
  }
  const takeReason = (reason: Reason) => {
    setValue('reason', reason)
    const virtual = reason === 'virtual machine'
    if (virtual !== now.toVirtualMachine) {
      setValue('toVirtualMachine', virtual)
      setValue('pairs', pairsFor(now.computerId, virtual))
    }
    if (reason !== 'another computer') setValue('targetComputerId', null)
  }
  const save = handleSubmit(async (filled) => {
    const made = settled(filled)
    if (moveId) {
      await act(() => changeMove(moveId, made), `/moves/${moveId}/intake`)
      return
    }
    await act(async () => {
      const answer = await newMove(made)
      if (answer.ok && answer.value) router.push(`/moves/${answer.value}/intake`)
      return answer
    })
  })
  const errors = Object.values(formState.errors).map(
    (e) => (e as { message?: string }).message ?? 'Something is missing.',
  )
  const systemsOf = (i: number) => drives.find((d) => d.id === now.pairs[i]?.sourceId)?.systems ?? []
  const option = (d: DriveChoice) => (
    <option key={d.id} value={d.id}>
      {d.name}, {d.serial}, {d.place}
    </option>
  )
  return (
    <Stage
      heading={moveId ? 'What is this move about?' : 'What is to be moved?'}
      reason="The computer first; what its drives tell is filled in. Nothing is written."
      aside={
        <>
          <AsideBlock title="What the drives tell">
            {!now.pairs.some((p) => p.sourceId) && (
              <p className="text-ink-soft">Choose the computer; its drives are looked into by themselves.</p>
            )}
            <ul className="space-y-2 text-[13.5px]">
              {now.pairs.flatMap((pair) => {
                const source = drives.find((d) => d.id === pair.sourceId)
                const target = drives.find((d) => d.id === pair.targetId)
                return [
                  ...(source ? [<Told key={source.id} drive={source} />] : []),
                  ...(target
                    ? [<Told key={target.id} drive={target} written={pair.volume === undefined ? 'all' : 'part'} />]
                    : []),
                ]
              })}
            </ul>
          </AsideBlock>
          {contradiction && <Callout>{contradiction}</Callout>}
          {errors.length > 0 && <Callout tone="bad">{errors.join(' ')}</Callout>}
        </>
      }
      next={
        <NextAction
          label={moveId ? 'Keep this' : 'Open the move'}
          onAct={() => void save()}
          disabled={busy || !complete || contradiction !== undefined}
          hint={complete ? undefined : 'It needs the computer, its drive, and where that goes.'}
        />
      }
    >
      {computers.length === 0 ? (
        <Callout>There is no computer on this bench yet. Describe one on the Bench page first.</Callout>
      ) : (
        <form className="panel grid max-w-3xl gap-x-5 gap-y-4 p-[18px] sm:grid-cols-2" onSubmit={(e) => void save(e)}>
          <ChoiceField label="Computer" value={now.computerId} onChange={(e) => takeComputer(e.target.value)}>
            <option value="">Choose one</option>
            {computers.map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}, {c.model}
              </option>
            ))}
          </ChoiceField>
          <ChoiceField label="Reason" value={now.reason} onChange={(e) => takeReason(e.target.value as Reason)}>
            {REASONS.filter((r) => hasHost || r !== 'virtual machine').map((r) => (
              <option key={r} value={r}>
                {r}
              </option>
            ))}
          </ChoiceField>
          {now.reason === 'another computer' && (
            <ChoiceField
              label="Computer it moves to"
              value={now.targetComputerId ?? ''}
              onChange={(e) => setValue('targetComputerId', e.target.value || null)}
            >
              <option value="">Choose one</option>
              {computers
                .filter((c) => c.id !== now.computerId)
                .map((c) => (
                  <option key={c.id} value={c.id}>
                    {c.name}, {c.model}
                  </option>
                ))}
            </ChoiceField>
          )}
          <div className="space-y-3 sm:col-span-2">
            {pairs.fields.map((field, i) => (
              <fieldset key={field.id} className="grid gap-x-5 gap-y-3 rounded-md bg-sunk p-3 sm:grid-cols-2">
                <legend className="sr-only">{i === 0 ? 'System drive' : `Further drive ${i}`}</legend>
                <ChoiceField
                  label={i === 0 ? 'System drive, only read' : `Further drive ${i}, only read`}
                  // Which of its systems goes was said of the drive before.
                  {...register(`pairs.${i}.sourceId`, { onChange: () => setValue(`pairs.${i}.volume`, undefined) })}
                >
                  <option value="">Choose one</option>
                  {sources.map(option)}
                </ChoiceField>
                {now.toVirtualMachine ? (
                  <p className="self-end pb-2 text-ink-soft">becomes a virtual disk</p>
                ) : (
                  <ChoiceField
                    label={
                      now.pairs[i]?.volume === undefined ? 'Target, will be erased' : 'Target, one partition is written'
                    }
                    {...register(`pairs.${i}.targetId`)}
                  >
                    <option value="">Choose one</option>
                    {drives.filter((d) => d.id !== now.pairs[i]?.sourceId && d.keptUntil === null).map(option)}
                  </ChoiceField>
                )}
                {systemsOf(i).length > 1 && !now.toVirtualMachine && now.pairs.length === 1 && (
                  <div className="sm:col-span-2">
                    <WhatMoves
                      systems={systemsOf(i)}
                      volume={now.pairs[i]?.volume}
                      onChoose={(volume) => setValue(`pairs.${i}.volume`, volume)}
                    />
                  </div>
                )}
                {i > 0 && (
                  <Button small className="justify-self-start" onClick={() => pairs.remove(i)}>
                    Leave this drive out
                  </Button>
                )}
              </fieldset>
            ))}
            <Button small onClick={() => pairs.append({ sourceId: '', targetId: now.toVirtualMachine ? null : '' })}>
              Add a further drive
            </Button>
            {mayStay(now) && (
              <div className="sm:w-1/2 sm:pr-2.5">
                <ChoiceField
                  label="The old drive"
                  value={isFixed ? 'stays' : (now.oldDrive ?? '')}
                  disabled={isFixed}
                  onChange={(e) => setValue('oldDrive', e.target.value === 'stays' ? 'stays' : undefined)}
                >
                  <option value="">comes out, and is kept as the way back</option>
                  <option value="stays">{isFixed ? 'is built in, and stays' : 'stays in, beside the new one'}</option>
                </ChoiceField>
              </div>
            )}
          </div>
          <TextField label="Name of the move" {...register('name')} />
          <TextField label="Customer" {...register('customer')} />
          <TextField label="Promised for" type="datetime-local" {...register('promised')} />
          <div className="flex flex-wrap items-end gap-3">
            <TickField
              label="There is a backup"
              checked={now.backup !== null}
              onChange={(e) => setValue('backup', e.target.checked ? { where: '', date: '' } : null)}
            />
          </div>
          {now.backup !== null && (
            <>
              <TextField label="Where the backup is" {...register('backup.where')} />
              <TextField label="Day of the backup" type="date" {...register('backup.date')} />
            </>
          )}
          {/* Enter in a field sends the form, as people expect of one. */}
          <button type="submit" className="sr-only" tabIndex={-1}>
            {moveId ? 'Keep this' : 'Open the move'}
          </button>
        </form>
      )}
    </Stage>
  )
}

/** What a drive holds, read now; of a target what will be gone. */
function Told({ drive, written }: { drive: DriveChoice; written?: 'all' | 'part' }) {
  const goes = { all: ', will be erased', part: ', all but one partition stays' }
  return (
    <li>
      <span className="font-semibold">{drive.name}</span>
      <span
        className={written === 'all' && !drive.isEmpty ? 'block font-semibold text-vermilion' : 'block text-ink-soft'}
      >
        {drive.isEmpty ? 'empty' : `${drive.holds}${written ? goes[written] : ''}`}
      </span>
    </li>
  )
}

/** What goes of a drive that has several systems: all of it, or one of them. */
function WhatMoves({
  systems,
  volume,
  onChoose,
}: {
  systems: DriveChoice['systems']
  volume: number | undefined
  onChoose: (volume: number | undefined) => void
}) {
  return (
    <ChoiceField
      label="What moves of it"
      value={volume ?? ''}
      onChange={(e) => onChoose(e.target.value === '' ? undefined : Number(e.target.value))}
    >
      <option value="">the whole drive, {systems.length} systems</option>
      {systems.map(({ partition, title, name }) => (
        <option key={partition} value={partition}>
          {title} alone: {name}, partition {partition}
        </option>
      ))}
    </ChoiceField>
  )
}
