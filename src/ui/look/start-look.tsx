'use client'

import { useRouter } from 'next/navigation'
import { formatSize } from '@/core/bytes/size'
import type { Trace } from '@/core/boot/types'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { Link } from '@/ui/frame/link'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Chain } from '@/ui/proof/chain'
import { Made, Offered, type OfferedRepair } from '@/ui/proof/repairs'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { Choice } from '@/ui/shared/choice'
import { Facts } from '@/ui/shared/facts'
import { Plate } from '@/ui/shared/plate'
import { Emulated, type EmulatedProps } from './emulated'

type Mode = 'uefi' | 'bios'

export interface StartLookProps {
  readonly subject: { readonly kind: 'drives' | 'images'; readonly id: string }
  readonly name: string
  readonly serial: string
  readonly sizeBytes: number
  readonly place: string
  readonly computer: { readonly name: string; readonly mode: Mode } | null
  readonly chosen: Mode | null
  readonly told: { readonly mode: Mode; readonly because: string }
  readonly mode: Mode
  readonly trace: Trace
  readonly offered: readonly OfferedRepair[]
  readonly made: readonly { readonly title: string; readonly changes: readonly string[] }[]
  readonly cut: boolean
  readonly whyShownOnly: string | null
  /** Of an emulator that is installed, and reads this disk. */
  readonly emulated: Omit<EmulatedProps, 'subject' | 'mode'> | null
}

const NAMES = { uefi: 'UEFI', bios: 'BIOS' } as const

/** Why a disk starts or does not, with it alone in a computer: the chain of Proof, without a move. */
export function StartLook(props: StartLookProps) {
  const { subject, name, trace, offered, made, mode, computer, told, whyShownOnly } = props
  const { act, go, busy } = useAct()
  const { repairSubject, undoSubjectRepair } = useActions()
  const router = useRouter()
  const here = `/${subject.kind}/${encodeURIComponent(subject.id)}`
  const repair = whyShownOnly === null ? offered.find((r) => r.why === null) : undefined
  const make = (which: string) => void act(() => repairSubject({ subject, firmware: props.chosen, repair: which }))
  const undo = () => void act(() => undoSubjectRepair({ subject }))
  return (
    <Stage
      heading={headingOf(props)}
      reason={reasonOf(props)}
      tools={
        (repair || props.cut) && (
          <Link
            data-action
            href={here}
            className="rounded-md border border-line-strong bg-sheet px-3.5 py-2 font-semibold hover:bg-sunk"
          >
            Look inside
          </Link>
        )
      }
      aside={
        <>
          <AsideBlock title={subject.kind === 'drives' ? 'Drive' : 'Image'}>
            {subject.kind === 'drives' ? (
              <Plate drive={{ name, serial: props.serial, place: props.place, sizeBytes: props.sizeBytes }} capacity />
            ) : (
              <>
                <p className="mb-2 text-[17px] font-bold break-words">{name}</p>
                <Facts
                  facts={[
                    { name: 'Format', value: props.serial },
                    { name: 'Disk', value: formatSize(props.sizeBytes), mono: true },
                  ]}
                />
              </>
            )}
          </AsideBlock>
          <AsideBlock title="Started by">
            <Choice
              label="Firmware"
              value={mode}
              options={[
                ['uefi', 'UEFI'],
                ['bios', 'BIOS'],
              ]}
              disabled={busy}
              onChange={(value) => router.replace(`${here}/start?firmware=${value}`, { scroll: false })}
            />
            <p className="mt-2 text-[13px] text-ink-soft">
              {computer && mode === computer.mode
                ? `With the settings of the ${computer.name}, where it sits.`
                : `By itself it is taken for ${NAMES[told.mode]}, since ${told.because}.`}
            </p>
          </AsideBlock>
        </>
      }
      next={
        props.cut && whyShownOnly === null ? (
          <NextAction label="Take back what was cut off" onAct={undo} disabled={busy} />
        ) : repair ? (
          <NextAction
            label={repair.title}
            onAct={() => make(repair.name)}
            disabled={busy}
            hint={`On this ${subject.kind === 'drives' ? 'drive' : 'image'} only, and it can be undone.`}
          />
        ) : (
          <NextAction label="Look inside" onAct={() => go(here)} disabled={busy} />
        )
      }
    >
      {props.cut && (
        <div className="mb-4">
          <Callout tone="bad">
            A repair of it was cut off in the middle. What follows is how it stands now.
            {whyShownOnly === null && (
              <Button small className="ml-3" disabled={busy} onClick={undo}>
                Take it back
              </Button>
            )}
          </Callout>
        </div>
      )}
      <Chain links={trace.links} />
      {props.emulated && <Emulated subject={subject} mode={mode} {...props.emulated} />}
      <Offered repairs={offered} first={repair?.name} busy={busy} onRepair={whyShownOnly === null ? make : undefined} />
      {offered.length > 0 && whyShownOnly !== null && (
        <p className="mt-2 max-w-[84ch] text-ink-soft">These are only shown here. {whyShownOnly}</p>
      )}
      <Made
        repairs={made.map((r, i) => ({ ...r, id: String(i), undone: false }))}
        busy={busy}
        onTakeBack={whyShownOnly === null ? undo : undefined}
      />
    </Stage>
  )
}

function headingOf({ trace }: StartLookProps): string {
  if (!trace.starts) {
    const stop = trace.links.find((l) => l.state === 'failed')
    return `It stops at the ${stop?.title.toLowerCase() ?? 'start'}`
  }
  return trace.links.some((l) => l.state === 'unproved')
    ? 'It starts, as far as it can be followed'
    : 'Every link of its start holds'
}

function reasonOf({ name, trace, mode, computer }: StartLookProps): string {
  const passed = trace.links.filter((l) => l.state === 'passed').length
  const where = computer && mode === computer.mode ? `in the ${computer.name}` : `in a computer with ${NAMES[mode]}`
  return `${name} alone ${where}, followed on its bytes: ${passed} of ${trace.links.length} links passed. Nothing was started and nothing was written.`
}
