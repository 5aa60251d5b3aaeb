'use client'

import { formatSize } from '@/core/bytes/size'
import type { DriveSurvey } from '@/core/survey/types'
import { DepthProfile } from '@/ui/shared/depth-profile'

/** What is used where on a drive, first sector to last. */
export function UsePanel({ survey, title, name }: { survey: DriveSurvey; title: string; name: string }) {
  return (
    <section className="panel mt-4 p-4">
      <div className="mb-1 flex flex-wrap justify-between gap-x-4">
        <h2 className="font-bold">{title}</h2>
        <span className="text-[13px] text-ink-soft">
          {formatSize(survey.usedBytes)} in all; first sector to last, the deeper the fuller
        </span>
      </div>
      <DepthProfile
        profile={survey.profile}
        sizeBytes={survey.sizeBytes}
        label={`Use of the ${name} from first sector to last`}
      />
    </section>
  )
}
