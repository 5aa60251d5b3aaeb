'use client'

import { useState } from 'react'
import { useForm, useWatch } from 'react-hook-form'
import { formatCapacity, formatSize } from '@/core/bytes/size'
import { parseCapacity } from '@/core/things/capacity'
import { listed, upperFirst } from '@/core/words'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Callout } from '@/ui/shared/callout'
import { Facts } from '@/ui/shared/facts'
import { ChoiceField, TextField } from '@/ui/shared/field'

export interface SystemFormProps {
  readonly subject: { readonly kind: 'drives' | 'images'; readonly id: string }
  readonly called: string
  readonly holds: string
  /** Names of the systems on it. */
  readonly systems: readonly string[]
  readonly usedBytes: number
  readonly sizeBytes: number
  readonly scheme: string
  readonly proposal: {
    readonly name: string
    readonly mode: 'uefi' | 'bios'
    readonly because: string
    readonly targetBytes: number
  }
  /** The computer that it sits in. */
  readonly home: string | null
  readonly computers: readonly { readonly id: string; readonly name: string; readonly model: string }[]
  readonly models: readonly { readonly id: string; readonly label: string }[]
  readonly model: string | null
  readonly targets: readonly {
    readonly id: string
    readonly name: string
    readonly serial: string
    readonly place: string
  }[]
  readonly lacks: readonly { readonly id: string; readonly words: readonly string[] }[]
  readonly benchName: string
  /** Drives are those that are plugged into this computer, and none is described. */
  readonly isSeen: boolean
}

interface Fields {
  computer: string
  computerName: string
  mode: 'uefi' | 'bios'
  memory: string
  kind: string
  target: string
  targetKind: string
  serial: string
  capacity: string
  name: string
  customer: string
}

const NEW = ''

/** From a disk to a move that stands in Survey: everything is proposed, and what only a person knows is asked for. */
export function SystemForm(props: SystemFormProps) {
  const { subject, proposal, computers, models, targets, isSeen } = props
  const { act, finished, busy } = useAct()
  const { moveSystem, confirmIntake, readDrives } = useActions()
  const [wrong, setWrong] = useState<string>()
  /** The move, once it was opened; what comes after that can be tried again. */
  const [opened, setOpened] = useState<string>()
  const { control, register, handleSubmit } = useForm<Fields>({
    defaultValues: {
      computer: props.home ?? NEW,
      computerName: proposal.name,
      mode: proposal.mode,
      memory: '8',
      kind: props.model ?? models[0].id,
      target: isSeen ? (targets[0]?.id ?? NEW) : NEW,
      targetKind: props.model ?? models[0].id,
      serial: '',
      capacity: formatCapacity(proposal.targetBytes),
      name: proposal.name,
      customer: 'Walk-in customer',
    },
  })
  const now = useWatch({ control }) as Fields
  const isNew = { computer: now.computer === NEW, target: now.target === NEW }
  const empty = props.scheme === 'none'
  const complete =
    !empty && (!isNew.target || (!isSeen && now.serial.trim().length >= 4 && parseCapacity(now.capacity)))
  const lacks = props.lacks.find((l) => l.id === now.targetKind)?.words ?? []
  const gets = [
    ...(isNew.computer ? [`the computer ${now.computerName}`] : []),
    ...(isNew.target && !isSeen ? ['the new drive'] : []),
    ...(isNew.target && !isSeen ? lacks.map((thing) => `a ${thing}`) : []),
  ]
  const save = handleSubmit(async (made) => {
    const sizeBytes = parseCapacity(made.capacity)
    if (isNew.target && sizeBytes === undefined)
      return setWrong('The capacity is no size. Write it as "960 GB" or "1 TB".')
    setWrong(undefined)
    let moveId = opened
    await act(
      async () => {
        const moved =
          moveId === undefined
            ? await moveSystem({
                subject,
                kind: made.kind,
                computer: isNew.computer
                  ? { from: 'new', name: made.computerName, mode: made.mode, memoryGib: Number(made.memory) }
                  : { from: 'bench', id: made.computer },
                target: isNew.target
                  ? { from: 'new', kind: made.targetKind, serial: made.serial, sizeBytes }
                  : { from: 'bench', id: made.target },
                name: made.name,
                customer: made.customer,
              })
            : { ok: true as const, value: moveId }
        if (!moved.ok) return moved
        moveId = moved.value!
        setOpened(moveId)
        const taken = await finished(await confirmIntake(moveId))
        return taken.ok ? readDrives(moveId) : taken
      },
      () => `/moves/${moveId}/survey`,
    )
  })
  return (
    <Stage
      heading={
        empty
          ? 'There is nothing on it to move'
          : props.systems.length > 0
            ? `Where does ${props.systems[0]} go?`
            : 'Where does this disk go?'
      }
      reason={
        empty
          ? `${props.called} has no partition table and no file system.`
          : `It starts by ${proposal.mode === 'uefi' ? 'UEFI' : 'BIOS'}, since ${proposal.because}. All of this can be changed here and later; nothing is written before Ready.`
      }
      aside={
        <>
          <AsideBlock title="What is moved">
            <p className="mb-2 text-[17px] font-bold break-words">{props.called}</p>
            <Facts
              facts={[
                { name: 'Holds', value: props.systems.length > 0 ? listed(props.systems) : props.holds },
                { name: 'Used', value: formatSize(props.usedBytes), mono: true },
                { name: 'Disk', value: formatSize(props.sizeBytes), mono: true },
              ]}
            />
          </AsideBlock>
          {gets.length > 0 && (
            <AsideBlock title={`What the bench ${props.benchName} gets`}>
              <p>{upperFirst(listed(gets))}.</p>
            </AsideBlock>
          )}
          {wrong && <Callout tone="bad">{wrong}</Callout>}
        </>
      }
      next={
        <NextAction
          label="Open the move and read the drives"
          onAct={() => void save()}
          disabled={busy || !complete}
          hint={
            complete
              ? 'Nothing is written.'
              : empty
                ? undefined
                : isSeen
                  ? 'It needs an empty drive that is plugged in and that nothing uses.'
                  : 'It needs the serial of the new drive and its capacity.'
          }
        />
      }
    >
      <form className="max-w-3xl space-y-4" onSubmit={(event) => void save(event)}>
        <fieldset className="panel p-[18px]">
          <legend className="sr-only">New drive</legend>
          <h2 className="mb-3 text-[17px] font-bold">Onto which drive</h2>
          <div className="grid gap-x-5 gap-y-4 sm:grid-cols-2">
            <div className="sm:col-span-2">
              <ChoiceField label="Target, will be erased" {...register('target')}>
                {(!isSeen || targets.length === 0) && (
                  <option value={NEW}>
                    {isSeen ? 'No empty drive is plugged in yet' : 'A new drive, described here'}
                  </option>
                )}
                {targets.map((d) => (
                  <option key={d.id} value={d.id}>
                    {d.name}, {d.serial}, {d.place}
                  </option>
                ))}
              </ChoiceField>
            </div>
            {isNew.target && !isSeen && (
              <>
                <TextField label="Serial number, from its label" autoFocus maxLength={40} {...register('serial')} />
                <TextField label="Capacity" maxLength={20} {...register('capacity')} />
                <ChoiceField label="Kind of the new drive" {...register('targetKind')}>
                  {models.map((m) => (
                    <option key={m.id} value={m.id}>
                      {m.label}
                    </option>
                  ))}
                </ChoiceField>
              </>
            )}
          </div>
        </fieldset>
        <fieldset className="panel p-[18px]">
          <legend className="sr-only">Computer</legend>
          <h2 className="mb-3 text-[17px] font-bold">In which computer</h2>
          <div className="grid gap-x-5 gap-y-4 sm:grid-cols-2">
            <div className="sm:col-span-2">
              <ChoiceField label="Computer" disabled={props.home !== null} {...register('computer')}>
                <option value={NEW}>A new one, as the disk tells</option>
                {computers.map((c) => (
                  <option key={c.id} value={c.id}>
                    {c.name}, {c.model}
                  </option>
                ))}
              </ChoiceField>
            </div>
            {isNew.computer && (
              <>
                <TextField label="Name of the computer" maxLength={80} {...register('computerName')} />
                <ChoiceField label="Firmware" {...register('mode')}>
                  <option value="uefi">UEFI</option>
                  <option value="bios">BIOS</option>
                </ChoiceField>
                <TextField label="Memory in GiB" type="number" min={1} max={4096} {...register('memory')} />
                {props.model === null && (
                  <ChoiceField label="Kind of its old drive" {...register('kind')}>
                    {models.map((m) => (
                      <option key={m.id} value={m.id}>
                        {m.label}
                      </option>
                    ))}
                  </ChoiceField>
                )}
              </>
            )}
          </div>
        </fieldset>
        <fieldset className="panel grid gap-x-5 gap-y-4 p-[18px] sm:grid-cols-2">
          <legend className="sr-only">Move</legend>
          <TextField label="Name of the move" maxLength={80} {...register('name')} />
          <TextField label="Customer" maxLength={80} {...register('customer')} />
        </fieldset>
        {/* Enter in a field sends the form, as people expect of one. */}
        <button type="submit" className="sr-only" tabIndex={-1}>
          Open the move
        </button>
      </form>
    </Stage>
  )
}
