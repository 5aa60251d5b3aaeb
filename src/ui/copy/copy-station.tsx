'use client'

import dynamic from 'next/dynamic'
import { useState } from 'react'
import type { Sure } from '@/core/copy/journal'
import type { CopyView } from '@/core/copy/view'
import { formatDuration, formatRate, formatSize } from '@/core/bytes/size'
import type { CopyChoices } from '@/core/copy/choices'
import { type CopyProgress, copyShare, lostWords } from '@/core/copy/progress'
import type { Transfer } from '@/core/route/types'
import { counted } from '@/core/words'
import { post, useAct } from '@/ui/frame/act'
import { useConnected, useProgress } from '@/ui/frame/events'
import { Link } from '@/ui/frame/link'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { DepthProfile } from '@/ui/shared/depth-profile'
import { Facts } from '@/ui/shared/facts'
import { TickField } from '@/ui/shared/field'
import { type LogLine, Logbook } from '@/ui/shared/logbook'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { Bell, useCopyEnd } from './copy-end'
import { ChangedList, CopySummaryPanel, LostList, SaveLink } from './summary'

// What draws charts is large, and few pages have one.
const SpeedChart = dynamic(() => import('./speed-chart').then((module) => module.SpeedChart), {
  ssr: false,
  loading: () => <div className="h-[140px]" />,
})

interface CopyPage {
  readonly copy: Omit<CopyView, 'leg' | 'startedAt' | 'endedAt'>
  readonly sure?: Sure
  /** Copies of other moves that run at the same time. */
  readonly others: readonly { readonly moveId: string; readonly title: string; readonly words: string }[]
  /** What was lost can be read once more before the drives are moved. */
  readonly canRetry: boolean
  readonly further: readonly PlateDrive[]
  /** Where what was written is looked into. */
  readonly lookAt: string | null
  readonly started: string
  readonly ended: string | null
  readonly startedAt: number
  /** Bench time when the page was made. */
  readonly benchNow: number
  readonly source: PlateDrive
  readonly target: PlateDrive
  readonly profile: readonly number[]
  readonly sourceBytes: number
  readonly sourceSectorSize: number
  readonly legNumber: number
  readonly legs: number
  readonly handsNext: boolean
  readonly leg: Pick<Transfer, 'bytes' | 'timing'>
  readonly lines: readonly LogLine[]
}

/** The bytes on their way, and what they came to. */
export function CopyStation({ moveId, view }: { moveId: string; view: CopyPage }) {
  const { act, go, busy } = useAct()
  const { copy, source, target } = view
  const [live, setLive] = useState<{ id: string; progress: CopyProgress; benchNow: number } | null>(null)
  const connected = useConnected()
  useProgress((id, progress, benchNow) => {
    if (id === moveId) setLive({ id: copy.id, progress, benchNow })
  })
  const running = copy.status === 'running' || copy.status === 'paused'
  const progress = running && live?.id === copy.id ? newer(live.progress, copy.progress) : copy.progress
  const [everyPiece, setEveryPiece] = useState(false)
  const command = (name: string, more = {}) =>
    void act(() => post(`/api/moves/${moveId}/copy`, { command: name, ...more }))
  const { heading, reason } =
    running && !connected ? lostWordsOf(progress) : wordsOf(view, progress, live?.benchNow ?? view.benchNow)
  const retrying = running && copy.summary !== null
  const { choices } = copy
  useCopyEnd({ id: copy.id, status: copy.status, running, heading, share: progress ? copyShare(progress) : 0 })
  return (
    <Stage
      heading={heading}
      reason={reason}
      tools={
        running && !retrying ? (
          <>
            {copy.waitsFor === null && (
              <Button onClick={() => command(copy.status === 'paused' ? 'resume' : 'pause')} disabled={busy}>
                {copy.status === 'paused' ? 'Resume' : 'Pause'}
              </Button>
            )}
            <Button tone="erases" onClick={() => command('stop')} disabled={busy}>
              Stop
            </Button>
          </>
        ) : copy.resumable || copy.verifyFailed ? (
          <Button onClick={() => go(`/moves/${moveId}/ready`)} disabled={busy}>
            Start it over
          </Button>
        ) : undefined
      }
      aside={
        <>
          <div className="space-y-3.5">
            <Plate drive={source} role="Source, read only" />
            <Plate
              drive={target}
              role={
                running ? 'Target, being written' : copy.status === 'done' ? 'Target, written' : 'Target, unfinished'
              }
              tone={copy.status === 'done' ? 'plain' : 'erases'}
            />
            {copy.status === 'done' && view.lookAt && (
              <Link href={view.lookAt} className="inline-block font-semibold text-sea-4 underline underline-offset-2">
                Look at its files, read only
              </Link>
            )}
            {view.further.map((drive) => (
              <Plate key={drive.serial} drive={drive} role="Written in the same reading" />
            ))}
          </div>
          <Facts
            facts={[
              ...(view.legs > 1 ? [{ name: 'Leg', value: `${view.legNumber} of ${view.legs}`, mono: true }] : []),
              { name: 'Reading', value: readingWords(choices) },
              ...(choices.skipPageFiles ? [{ name: 'Left out', value: 'page, hibernation and swap files' }] : []),
              { name: 'Check', value: choices.verify ? 'read back and compare' : 'none, as chosen' },
              ...(progress ? [{ name: 'Mean speed', value: formatRate(progress.meanBytesPerSecond), mono: true }] : []),
            ]}
          />
          {running && <Bell />}
          {view.others.length > 0 && (
            <AsideBlock title="Copying at the same time">
              <ul className="space-y-1">
                {view.others.map((other) => (
                  <li key={other.moveId}>
                    <a className="underline underline-offset-2" href={`/moves/${other.moveId}/copy`}>
                      {other.title}
                    </a>{' '}
                    <span className="font-mono text-[12.5px] text-ink-soft">{other.words}</span>
                  </li>
                ))}
              </ul>
            </AsideBlock>
          )}
          <AsideBlock title="Logbook">
            <Logbook lines={view.lines} />
          </AsideBlock>
        </>
      }
      next={
        copy.status === 'done' ? (
          <NextAction
            label={view.handsNext ? 'Continue to Swap' : 'Continue to the next leg'}
            onAct={() => go(`/moves/${moveId}/${view.handsNext ? 'swap' : 'ready'}`)}
            disabled={busy}
            hint={
              view.legNumber < view.legs
                ? `Leg ${view.legNumber} of ${view.legs} is done; the next one follows.`
                : undefined
            }
          />
        ) : running ? undefined : copy.resumable ? (
          <NextAction
            label="Resume the copy"
            onAct={() => command('go-on', { recheck: everyPiece ? 'every' : 'sample' })}
            disabled={busy}
            hint={`From the last piece that is sure; ${everyPiece ? 'all' : 'some'} of what was copied before is compared first.`}
          />
        ) : copy.verifyFailed ? (
          <NextAction
            label="Choose another target"
            onAct={() => go(`/moves/${moveId}/fit`)}
            disabled={busy}
            hint="In Fit, where it is tried on the other drives of the bench."
          />
        ) : (
          <NextAction
            label="Start the copy over"
            onAct={() => go(`/moves/${moveId}/ready`)}
            disabled={busy}
            hint="The plate is checked again first."
          />
        )
      }
    >
      {copy.message && (
        <div className="mb-4">
          <Callout tone="bad">{copy.message}</Callout>
        </div>
      )}
      {copy.resumable && !running && (
        <div className="mb-4">
          <TickField
            label="Before resuming, compare every copied piece with both drives, not just a sample"
            checked={everyPiece}
            onChange={(event) => setEveryPiece(event.target.checked)}
          />
        </div>
      )}
      {progress && <Bar progress={progress} done={copy.status === 'done'} />}
      {copy.summary && copy.summary.lost.length > 0 && (
        <LostList
          lost={copy.summary.lost}
          tools={
            <span className="flex gap-2">
              {view.canRetry && (
                <Button small disabled={busy || running} onClick={() => command('retry-lost')}>
                  {retrying ? 'Reading them' : 'Read them once more'}
                </Button>
              )}
              <SaveLink href={`/api/moves/${moveId}/copy/summary?leg=${view.legNumber}&as=lost`}>
                Save the list
              </SaveLink>
            </span>
          }
        />
      )}
      {copy.summary && (
        <CopySummaryPanel
          summary={copy.summary}
          tools={
            <span className="flex gap-2">
              <SaveLink href={`/api/moves/${moveId}/copy/summary?leg=${view.legNumber}&as=json`}>JSON</SaveLink>
              <SaveLink href={`/api/moves/${moveId}/copy/summary?leg=${view.legNumber}&as=csv`}>CSV</SaveLink>
            </span>
          }
        />
      )}
      {copy.summary?.live && <ChangedList live={copy.summary.live} />}
      <section className="panel mt-4 p-4">
        <div className="mb-1 flex flex-wrap justify-between gap-x-4">
          <h2 className="font-bold">Where it is on the drive</h2>
          <span className="text-[13px] text-ink-soft">first sector to last; the deeper, the fuller</span>
        </div>
        <DepthProfile
          profile={view.profile}
          sizeBytes={view.sourceBytes}
          doneBytes={copy.status === 'done' ? view.sourceBytes : doneOf(progress)}
          inHand={
            progress && running && progress.phase !== 'erase'
              ? `${progress.phase === 'check' ? 'reading back' : 'in hand'}, ${formatSize(progress.sourceOffset)} in`
              : undefined
          }
          lost={copy.summary?.lost.map((run) => run.sourceLba * view.sourceSectorSize)}
          label={`Progress over the ${source.name} from first sector to last`}
        />
        <p className="mt-1 flex flex-wrap gap-x-5 text-[13px] text-ink-soft">
          <span>
            <span aria-hidden className="mr-1 inline-block size-2.5 bg-[var(--profile-done)]" />
            {progress?.phase === 'check' ? 'read back' : 'copied'}
          </span>
          <span>
            <span aria-hidden className="mr-1 inline-block size-2.5 bg-sea-2" />
            to come
          </span>
          <span>paper: {choices.read === 'used' ? 'free, skipped' : 'free'}</span>
          {copy.summary && copy.summary.lost.length > 0 && (
            <span>
              <span aria-hidden className="mr-1 inline-block size-2.5 bg-vermilion" />
              lost sectors
            </span>
          )}
        </p>
      </section>
      {progress && progress.samples.length > 0 && (
        <section className="panel mt-4 p-4">
          <div className="mb-2 flex flex-wrap justify-between gap-x-4">
            <h2 className="font-bold">Speed</h2>
            <span className="font-mono text-[13px] text-ink-soft">
              {running && connected ? `${formatRate(progress.bytesPerSecond)} now · ` : ''}
              {formatRate(progress.meanBytesPerSecond)} mean · link allows{' '}
              {formatRate(
                progress.phase === 'check' ? view.leg.timing.checkBytesPerSecond : view.leg.timing.copyBytesPerSecond,
              )}
            </span>
          </div>
          <SpeedChart samples={progress.samples} events={progress.events} timing={view.leg.timing} />
        </section>
      )}
    </Stage>
  )
}

/** The reading that is further on; events and pages may arrive in either order. */
function newer(a: CopyProgress, b: CopyProgress | null): CopyProgress {
  return b && b.seconds > a.seconds ? b : a
}

function doneOf(progress: CopyProgress | null): number {
  if (!progress || progress.phase === 'erase') return 0
  if (progress.phase === 'tables') return Number.MAX_SAFE_INTEGER
  return progress.sourceOffset
}

/** With the server gone nobody knows of the copy. */
function lostWordsOf(progress: CopyProgress | null): { heading: string; reason: string } {
  return {
    heading: 'The server does not answer',
    reason: `Whether the copy goes on is not known here. ${progress ? `When it was last heard of, ${formatSize(progress.copiedBytes)} were copied.` : ''} Start the server again; this page then says how it stands.`,
  }
}

function wordsOf(view: CopyPage, progress: CopyProgress | null, benchNow: number): { heading: string; reason: string } {
  const { copy, leg } = view
  if (copy.summary && (copy.status === 'running' || copy.status === 'paused')) {
    return { heading: 'What was lost is read once more', reason: 'Only the lost sectors; the rest of the copy stands.' }
  }
  switch (copy.status) {
    case 'done':
      return {
        heading:
          copy.summary!.lost.length > 0
            ? `Copied, but ${lostWords(copy.summary!.lost)}`
            : copy.summary!.live?.oneMoment === false
              ? `${formatSize(copy.summary!.copiedBytes)} copied, but not of one moment`
              : copy.summary!.checkedBytes > 0
                ? `${formatSize(copy.summary!.copiedBytes)} copied, and all of it reads back equal`
                : `${formatSize(copy.summary!.copiedBytes)} copied, and not read back`,
        reason: `Started ${view.started}, done ${view.ended}. ${
          copy.summary!.live
            ? `Of the ${view.source.name} this only read; what was written on it meanwhile is its own system’s.`
            : `The ${view.source.name} was only read and is as it was.`
        }`,
      }
    case 'stopped':
      return {
        heading: 'The copy was stopped',
        reason: copy.resumable
          ? `Nothing can start from the target. ${sureWords(view.sure)}`
          : 'Nothing can start from the target until it has been copied to again.',
      }
    case 'failed':
      if (copy.verifyFailed)
        return {
          heading: 'The new drive does not give back what was written',
          reason: `The ${view.source.name} is as it was. Take another drive as the target; this one cannot be trusted.`,
        }
      return {
        heading: 'The copy failed',
        reason: 'The source is as it was. The target is not to be used until it has been copied to again.',
      }
    case 'interrupted':
      return {
        heading: 'The copy was cut off',
        reason: copy.resumable
          ? `The source is as it was. ${sureWords(view.sure)}`
          : 'The source is as it was; start the copy over.',
      }
  }
  if (!progress)
    return {
      heading: 'Nothing is written yet',
      reason:
        copy.waitsFor ??
        (copy.choices.read === 'used' && !copy.choices.mapsUnchecked
          ? 'Checking the used-block maps against the files before the copy starts.'
          : 'Checking both drives once more before the copy starts.'),
    }
  if (progress.phase === 'erase' && progress.copiedBytes === 0)
    return {
      heading: 'The target is being erased',
      reason: 'It is marked as unfinished first, so that nobody starts from it.',
    }
  const end = new Date(benchNow + progress.secondsLeft * 1000).toISOString().slice(11, 16)
  const left = formatDuration(progress.secondsLeft)
  const done = progress.phase === 'check' ? progress.checkedBytes : progress.copiedBytes
  const verb = progress.phase === 'check' ? 'read back and equal' : 'copied'
  return {
    heading: `${formatSize(done)} of ${formatSize(progress.totalBytes || leg.bytes)} ${verb}`,
    reason:
      copy.waitsFor !== null
        ? copy.waitsFor
        : copy.status === 'paused'
          ? `Paused. ${left} of work are left; it resumes where it is.`
          : progress.phase === 'rescue'
            ? 'What reads well is copied. Now it reads around what does not, in ever smaller pieces.'
            : `Done at about ${end}, in ${left} of bench time. It will not stop to ask you anything.`,
  }
}

function sureWords(sure: CopyPage['sure']): string {
  if (!sure || sure.copiedBytes === 0) return 'It resumes from its beginning.'
  const checked = sure.checkedBytes > 0 ? `, ${formatSize(sure.checkedBytes)} of it read back and equal` : ''
  return `${formatSize(sure.copiedBytes)} are on the target for certain${checked}; it resumes from there.`
}

/** One bar over both passes: copying fills the first half, reading back the second. */
function Bar({ progress, done }: { progress: CopyProgress; done: boolean }) {
  const share = done ? 1 : copyShare(progress)
  return (
    <>
      <div
        role="progressbar"
        aria-label="Copied and read back"
        aria-valuenow={Math.round(share * 100)}
        aria-valuemin={0}
        aria-valuemax={100}
        className="h-3 overflow-hidden rounded-full border border-line-strong bg-sea-1"
      >
        <div className="h-full bg-[var(--profile-done)]" style={{ width: `${share * 100}%` }} />
      </div>
      {progress.verify && !done && (
        <div className="mt-0.5 grid grid-cols-2 text-[12.5px] text-ink-soft" aria-hidden>
          <span className="pl-2">copying</span>
          <span className="border-l border-line-strong pl-2">reading back</span>
        </div>
      )}
    </>
  )
}

function readingWords({ read, everyOf }: CopyChoices): string {
  if (read === 'every') return 'every sector'
  return everyOf.length === 0 ? 'used blocks only' : `used blocks, every sector of ${counted(everyOf.length, 'volume')}`
}
