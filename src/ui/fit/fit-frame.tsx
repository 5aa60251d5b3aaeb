'use client'

import type { ReactNode } from 'react'
import { formatSize } from '@/core/bytes/size'
import type { FitResult, FitWish, Layout } from '@/core/fit/types'
import { formatRange } from '@/core/route/timing'
import type { Transfer } from '@/core/route/types'
import type { DriveSurvey } from '@/core/survey/types'
import type { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { Facts } from '@/ui/shared/facts'
import type { PlateDrive } from '@/ui/shared/plate'

// What every way of laying out has on its page.

export interface Locked {
  readonly wish: FitWish
  readonly layout: Layout
  readonly at: string
}

export interface FitPair {
  readonly index: number
  /** The one partition that goes, onto a drive that keeps everything else; null where the whole drive does. */
  readonly volume: number | null
  /** A new identity for a target that may keep nothing of the source's; null where it may. */
  readonly ownIdentity: string | null
  /** The source stays in the computer beside it. */
  readonly besideSource: boolean
  readonly source: PlateDrive & { readonly model: string }
  /** Null where a virtual disk is still to be made. */
  readonly target: (PlateDrive & { readonly model: string }) | null
  readonly sourceSurvey: DriveSurvey
  readonly targetSurvey: DriveSurvey | null
  /** What a virtual disk that is still to be made holds at most, in its format. */
  readonly diskLimit: { readonly format: string; readonly bytes: number } | null
  readonly locked: Locked | null
  readonly earlier: readonly (Locked & { readonly headline: string })[]
  readonly leg: Pick<Transfer, 'bytes' | 'timing' | 'lowSeconds' | 'highSeconds'> | null
}

export interface Candidate {
  readonly id: string
  readonly name: string
  readonly model: string
  readonly serial: string
  readonly place: string
  readonly sizeBytes: number
  readonly logicalSectorSize: number
  readonly holds: string
  readonly isEmpty: boolean
}

export interface FitView {
  readonly pairs: readonly FitPair[]
  readonly candidates: readonly Candidate[]
  readonly copied: boolean
  /** A neighbour on the target was made smaller for the volume that comes, and can be given its room back. */
  readonly roomMade: boolean
  /** Said when a drive is another than when it was read. */
  readonly stale: string | null
  /** Why it goes no further than this. */
  readonly obstacle: string | null
}

export interface FitOfPairProps {
  readonly moveId: string
  readonly pair: FitPair
  readonly view: FitView
  readonly acting: ReturnType<typeof useAct>
  readonly tabs: ReactNode
  /** Goes on to the next drive that is not locked; absent when this is the last one. */
  readonly onLocked?: () => void
}

/** Says that a drive is another than when it was read, with the way out. */
export function Stale({ moveId, acting, stale }: Pick<FitOfPairProps, 'moveId' | 'acting'> & { stale: string | null }) {
  const { readDrives } = useActions()
  if (!stale) return null
  return (
    <div className="mb-4">
      <Callout tone="bad">
        <span className="flex flex-wrap items-center justify-between gap-3">
          {stale}
          <Button
            small
            onClick={() => void acting.act(() => readDrives(moveId), `/moves/${moveId}/survey`)}
            disabled={acting.busy}
          >
            Read the drives again
          </Button>
        </span>
      </Callout>
    </div>
  )
}

export function ThisCopy({ pair, tried }: { pair: FitPair; tried: boolean }) {
  const { leg } = pair
  return (
    <AsideBlock title="This copy">
      {tried ? (
        <p className="text-ink-soft">How long it takes depends on the way there, which Route finds.</p>
      ) : leg ? (
        <Facts
          facts={[
            { name: 'To copy', value: formatSize(leg.bytes), mono: true },
            { name: 'Limited by', value: leg.timing.limitedBy },
            { name: 'Time', value: formatRange(leg.lowSeconds, leg.highSeconds), mono: true },
          ]}
        />
      ) : null}
    </AsideBlock>
  )
}

interface NextProps {
  readonly locked: Locked | null
  readonly canLock: boolean
  readonly busy: boolean
  readonly obstacle: string | null
  readonly candidate: Candidate | undefined
  readonly more: boolean
  readonly onGo: () => void
  readonly onLock: () => void
  readonly onTake: () => void
}

export function Next({ locked, canLock, busy, obstacle, candidate, more, onGo, onLock, onTake }: NextProps) {
  if (candidate) {
    return (
      <NextAction
        label="Make it the target"
        onAct={onTake}
        disabled={busy}
        hint={`The ${candidate.name} is only tried here. Taking it means choosing the route anew.`}
      />
    )
  }
  if (!locked)
    return <NextAction label="Lock this fit" onAct={onLock} disabled={!canLock} hint={obstacle ?? undefined} />
  return (
    <NextAction
      label={more ? 'Continue to the next drive' : 'Continue to Ready'}
      onAct={onGo}
      disabled={busy}
      hint={obstacle ? `Locked ${locked.at}. ${obstacle}` : `Locked ${locked.at}. This is what will be written.`}
    />
  )
}

/** The heading of a fit, and why. */
export function wordsOf(result: FitResult): { heading: string; reason: string } {
  if (result.fits) return { heading: result.headline, reason: result.reason }
  const [{ missingBytes, sentence }] = result.obstacles
  return {
    heading: missingBytes ? `It misses by ${formatSize(missingBytes)}` : 'It cannot be laid out',
    reason: sentence,
  }
}
