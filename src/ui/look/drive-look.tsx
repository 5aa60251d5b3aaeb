'use client'

import type { DriveUse } from '@/core/move/drive-use'
import type { Health } from '@/core/health/health'
import type { DriveSurvey } from '@/core/survey/types'
import { useAct } from '@/ui/frame/act'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock } from '@/ui/frame/stage'
import { MoveLinks } from '@/ui/shared/move-links'
import { HealthBlock } from '@/ui/shared/health'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { Look } from './look'

export interface DriveLookProps {
  readonly id: string
  readonly drive: PlateDrive
  readonly detail: string
  readonly health?: Health
  readonly usedBy: readonly DriveUse[]
  readonly survey: DriveSurvey
}

/** A drive of the bench, looked at. */
export function DriveLook({ id, drive, detail, health, usedBy, survey }: DriveLookProps) {
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
        </>
      }
      next={<NextAction label="Go to the bench" onAct={() => go('/bench')} disabled={busy} />}
    />
  )
}
