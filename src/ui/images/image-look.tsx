'use client'

import type { DriveSurvey } from '@/core/survey/types'
import { post, useAct } from '@/ui/frame/act'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock } from '@/ui/frame/stage'
import { formatSize } from '@/core/bytes/size'
import { Facts } from '@/ui/shared/facts'
import type { PlateDrive } from '@/ui/shared/plate'
import { Look } from '../look/look'
import { type ComparableDisk, CompareForm } from '@/ui/look/compare-form'
import { LookTools } from '../look/look-tools'
import type { ImageSummary } from '@/core/image/views'

export interface ImageLookProps {
  readonly image: ImageSummary
  readonly survey: DriveSurvey
  readonly drive: PlateDrive
  readonly comparable: readonly ComparableDisk[]
}

/** An image, looked at. */
export function ImageLook({ image, survey, drive, comparable }: ImageLookProps) {
  const { act, go, busy } = useAct()
  const onBench = image.onBench.length > 0
  return (
    <Look
      subject={{ kind: 'images', id: image.name }}
      drive={drive}
      survey={survey}
      tools={<LookTools subject={{ kind: 'images', id: image.name }} moves={survey.scheme !== 'none'} />}
      aside={
        <>
          <AsideBlock title="Image">
            <p className="mb-2 text-[17px] font-bold break-words">{image.name}</p>
            <Facts
              facts={[
                { name: 'Format', value: image.opened!.format },
                { name: 'Disk', value: formatSize(image.opened!.virtualBytes), mono: true },
                { name: 'Sectors of', value: `${survey.logicalSectorSize} bytes`, mono: true },
                { name: 'File', value: formatSize(image.fileBytes), mono: true },
                { name: 'On this host', value: formatSize(image.hostBytes), mono: true },
                ...(image.opened!.parent ? [{ name: 'Builds on', value: image.opened!.parent }] : []),
              ]}
            />
          </AsideBlock>
          <AsideBlock title="Compare">
            <CompareForm disk={{ kind: 'images', id: image.name }} others={comparable} next="/images" />
          </AsideBlock>
        </>
      }
      next={
        onBench ? (
          <NextAction label="Go to the bench" onAct={() => go('/bench')} disabled={busy} />
        ) : (
          <NextAction
            label="Put it on the bench"
            onAct={() => void act(() => post('/api/images/bench', { image: image.name }), '/bench')}
            disabled={busy}
            hint="It lies on the table there, as a drive."
          />
        )
      }
    />
  )
}
