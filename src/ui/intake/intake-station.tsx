'use client'

import { Link } from '@/ui/frame/link'
import { formatRate, formatSize, GIB, groupDigits } from '@/core/bytes/size'
import type { Brief } from '@/core/intake/brief'
import type { Speed } from '@/core/intake/speed'
import type { LentBy } from '@/core/things/drive'
import { upperFirst } from '@/core/words'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { type Fact, Facts } from '@/ui/shared/facts'
import { type LogLine, Logbook } from '@/ui/shared/logbook'
import { Plate, type PlateDrive } from '@/ui/shared/plate'

interface ComputerView {
  readonly id: string
  readonly name: string
  readonly model: string
  readonly firmware: string
  readonly starts: string
  readonly memoryBytes: number
  readonly processors: string
  readonly network: string
  readonly sockets: string
  readonly battery: string | null
  readonly chassis: string
  readonly bootMenuKey: string
  readonly running: string
  readonly bootEntries: readonly { id: string; name: string; path: string }[]
  readonly slots: readonly { id: string; takes: string; holds: string | null }[]
}

interface DrivePlate extends PlateDrive {
  readonly id: string
}

interface IntakeView {
  readonly confirmed: boolean
  readonly brief: Brief
  readonly promised: string
  readonly backup: { readonly where: string; readonly date: string } | null
  readonly computer: ComputerView
  readonly goal?: ComputerView
  readonly plates: readonly { readonly source: DrivePlate; readonly target?: DrivePlate; readonly speed?: Speed }[]
  readonly lines: readonly LogLine[]
  /** The one partition that moves, as far as its drive was read. */
  readonly volume?: { readonly title: string; readonly name?: string }
}

/** A drive that another bench lends and that cannot be read now. */
function awayOf({ id, name, lentBy }: DrivePlate) {
  return lentBy && lentBy.state !== 'here' ? { id, name, lentBy } : undefined
}

const AWAY: Record<LentBy['state'], string> = {
  'not asked': 'Whoever sits there says yes or no. The drive is then read where it is.',
  asked: 'It is asked for. Whoever sits there has to say yes.',
  here: '',
  away: 'There is no connection; it is taken up again by itself.',
  refused: 'It was refused there, or taken back.',
}

/** What is to be moved, and why. */
export function IntakeStation({ moveId, view }: { moveId: string; view: IntakeView }) {
  const { act, go, finished, busy } = useAct()
  const { confirmIntake, measureAgain, readDrives, askAgain } = useActions()
  const { computer, backup, plates, brief, promised } = view
  const next = `/moves/${moveId}/survey`
  const away = plates.flatMap(({ source, target }) => awayOf(source) ?? (target && awayOf(target)) ?? [])[0]
  const alone = brief.pairs[0].volume !== undefined
  const saveFindings = () =>
    act(async () => {
      const taken = await finished(await confirmIntake(moveId))
      return taken.ok ? readDrives(moveId) : taken
    }, next)
  return (
    <Stage
      heading={alone ? `One system of the ${computer.name} moves` : headingOf(brief.reason, computer.name)}
      reason={`${brief.customer} wants ${view.volume?.name ? `${view.volume.name}, ${view.volume.title}` : 'the system'} of the ${computer.name} ${goalWords(view)}${promised && `, promised for ${promised}`}.`}
      tools={
        !view.confirmed && (
          <Link
            data-action
            href={`/moves/${moveId}/change`}
            className="rounded-md border border-line-strong bg-sheet px-3.5 py-2 font-semibold hover:bg-sunk"
          >
            Change
          </Link>
        )
      }
      aside={
        <>
          <AsideBlock title="At stake">
            {backup ? (
              <Callout tone="good">
                There is a backup of {backup.date}, {backup.where}.
              </Callout>
            ) : (
              <Callout tone="bad">There is no backup. The old drive is the customer’s only copy.</Callout>
            )}
          </AsideBlock>
          <AsideBlock title="Logbook">
            <Logbook lines={view.lines} />
          </AsideBlock>
        </>
      }
      next={
        view.confirmed ? (
          <NextAction label="Go to Survey" onAct={() => go(next)} disabled={busy} />
        ) : away ? (
          <NextAction
            label={
              away.lentBy.state === 'asked' || away.lentBy.state === 'away'
                ? `Waiting for ${away.lentBy.bench}`
                : `Ask ${away.lentBy.bench} for the ${away.name}`
            }
            onAct={() => void act(() => askAgain({ driveId: away.id }))}
            disabled={busy || away.lentBy.state === 'asked' || away.lentBy.state === 'away'}
            hint={AWAY[away.lentBy.state]}
          />
        ) : (
          <NextAction
            label="Read the drives"
            onAct={() => void saveFindings()}
            disabled={busy}
            hint="The old drive’s speed is measured and all drives are read. Nothing is written."
          />
        )
      }
    >
      <div className="grid gap-4 xl:grid-cols-2">
        <div className="space-y-4">
          <ComputerPanel computer={computer} />
          {view.goal && <ComputerPanel computer={view.goal} />}
        </div>
        <div className="space-y-4">
          {plates.map(({ source, target, speed }, i) => (
            <section key={source.serial} className="panel space-y-4 p-[18px]">
              <h2 className="text-[17px] font-bold">
                {alone
                  ? `${view.volume?.title ?? 'One system'}, into a drive that keeps everything else`
                  : i === 0
                    ? brief.oldDrive === 'stays'
                      ? 'From the old drive, which stays in, to the new one'
                      : 'From the old drive to the new one'
                    : `Further drive ${i}`}
              </h2>
              <Plate drive={source} role="Source, only ever read" capacity />
              <SpeedNow speed={speed} />
              {target ? (
                <Plate
                  drive={target}
                  role={alone ? 'Target, one partition of it will be written' : 'Target, will be erased'}
                  tone="erases"
                  capacity
                />
              ) : (
                <p className="text-ink-soft">It becomes a virtual disk on the host.</p>
              )}
            </section>
          ))}
          {view.confirmed && (
            <Button small disabled={busy} onClick={() => void act(() => measureAgain(moveId))}>
              Measure the old drive again
            </Button>
          )}
          <p className="text-[13px] text-ink-soft">
            A maker’s GB is {groupDigits(1e9)} bytes, a system’s GiB is {groupDigits(GIB)}: the same drive, two numbers.
          </p>
        </div>
      </div>
    </Stage>
  )
}

function goalWords({ brief, plates, goal }: IntakeView): string {
  if (brief.toVirtualMachine) return 'as a virtual machine'
  const name = plates[0].target?.name ?? 'a new drive'
  return goal ? `in the ${goal.name}, on the ${name}` : `on the ${name}`
}

/** How fast the old drive is before anything changes. */
function SpeedNow({ speed }: { speed?: Speed }) {
  if (!speed) return <p className="text-[13px] text-ink-soft">Its speed is measured when the intake is confirmed.</p>
  const facts: Fact[] = [
    { name: 'Reads in sequence', value: formatRate(speed.sequentialBytesPerSecond), mono: true },
    {
      name: 'Reads 4 KiB at random',
      value: `${groupDigits(Math.round(speed.randomReadsPerSecond))} a second`,
      mono: true,
    },
    ...(speed.failedReads > 0
      ? [
          {
            name: 'Reads that failed',
            value: `${speed.failedReads} of ${speed.reads}`,
            mono: true,
            tone: 'bad' as const,
          },
        ]
      : []),
  ]
  return (
    <div data-testid="speed">
      <Facts facts={facts} />
      <p className="mt-1 text-[13px] text-ink-soft">Measured in {speed.over}; kept for the comparison at the end.</p>
    </div>
  )
}

function ComputerPanel({ computer }: { computer: ComputerView }) {
  return (
    <section className="panel p-[18px]">
      <h2 className="mb-3 text-[17px] font-bold">
        {computer.model} <span className="font-normal text-ink-soft">the {computer.name}</span>
      </h2>
      <Facts
        facts={[
          { name: 'Firmware', value: computer.firmware },
          { name: 'Starts', value: computer.starts },
          { name: 'Memory', value: formatSize(computer.memoryBytes), mono: true },
          { name: 'Processors', value: computer.processors },
          { name: 'Network', value: computer.network },
          { name: 'Sockets', value: computer.sockets },
          ...(computer.battery ? [{ name: 'Battery', value: computer.battery, mono: true }] : []),
          { name: 'Case', value: computer.chassis },
          {
            name: 'Boot menu',
            value: <kbd className="rounded border border-line-strong px-1.5">{computer.bootMenuKey}</kbd>,
          },
          { name: 'Now', value: computer.running },
          ...computer.slots.map((slot) => ({
            name: slot.id,
            value: slot.holds ?? <span className="text-ink-soft">free, takes {slot.takes}</span>,
          })),
        ]}
      />
      {computer.bootEntries.length > 0 && <h3 className="caption mt-5 mb-2">Boot entries of the firmware</h3>}
      {computer.bootEntries.map((entry) => (
        <p key={entry.id} className="text-[13.5px]">
          <span className="font-mono">{entry.id}</span> {entry.name}
          <span className="block font-mono text-[12.5px] break-all text-ink-soft">{entry.path}</span>
        </p>
      ))}
    </section>
  )
}

/** The reason as a finding. */
function headingOf(reason: Brief['reason'], name: string): string {
  switch (reason) {
    case 'failing drive':
      return `A failing drive in the ${name}`
    case 'virtual machine':
      return `The ${name} becomes a virtual machine`
    case 'another computer':
      return `The ${name} moves to another computer`
    case 'several computers':
      return `The ${name} onto several computers`
    default:
      return `${upperFirst(reason)} for the ${name}`
  }
}
