'use client'

import type { ReactNode } from 'react'
import type { DriveUse } from '@/core/move/drive-use'
import type { Health } from '@/core/health/health'
import type { DriveSurvey } from '@/core/survey/types'
import { useAct } from '@/ui/frame/act'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock } from '@/ui/frame/stage'
import { MoveLinks } from '@/ui/shared/move-links'
import { HealthBlock } from '@/ui/shared/health'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { type ComparableDisk, CompareForm } from '@/ui/look/compare-form'
import { Look } from './look'
import { LookTools } from './look-tools'

export interface DriveLookProps {
  readonly id: string
  readonly drive: PlateDrive
  readonly detail: string
  readonly health?: Health
  readonly usedBy: readonly DriveUse[]
  readonly survey: DriveSurvey
  readonly comparable: readonly ComparableDisk[]
  /** What else can be done with it, beside. */
  readonly more?: ReactNode
}

/** A drive of the bench, looked at. */
export function DriveLook({ id, drive, detail, health, usedBy, survey, comparable, more }: DriveLookProps) {
  const { go, busy } = useAct()
  return (
    <Look
      subject={{ kind: 'drives', id }}
      drive={drive}
      survey={survey}
      health={health}
      aside={
        <>
          <AsideBlock title="Drive">
            <Plate drive={drive} role={detail} capacity />
            <MoveLinks uses={usedBy} />
          </AsideBlock>
          <HealthBlock health={health} />
          {more}
          <AsideBlock title="Compare">
            <CompareForm disk={{ kind: 'drives', id }} others={comparable} next="/images" />
          </AsideBlock>
        </>
      }
      tools={<LookTools subject={{ kind: 'drives', id }} moves={usedBy.length === 0 && survey.scheme !== 'none'} />}
      next={<NextAction label="Go to the bench" onAct={() => go('/bench')} disabled={busy} />}
    />
  )
}
