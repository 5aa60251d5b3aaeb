'use client'

import { useRouter } from 'next/navigation'
import { type ReactNode, useEffect } from 'react'
import type { JobView } from '@/core/job'
import { JobRuns } from '@/ui/frame/act'
import { useJobEnd } from '@/ui/frame/events'
import { NoticeProvider } from '@/ui/frame/notice'
import { JobStrip } from './job-strip'

interface MoveNoticeProps {
  readonly notice: ReactNode
  /** What runs, and keeps everything else of the move waiting; or the last that did not come to its end. */
  readonly job?: JobView
  /** It was put off or given up: nothing of it can be done. */
  readonly laidAside?: boolean
  readonly children: ReactNode
}

/** What every page of a move has to say first, and whether it has to wait for a job. */
export function MoveNotice({ notice, job, laidAside = false, children }: MoveNoticeProps) {
  const router = useRouter()
  const jobEnd = useJobEnd()
  const runningId = job?.state === 'running' ? job.id : undefined
  // Its end may be told before this page hears anything, so it is asked for.
  useEffect(() => {
    if (runningId === undefined) return
    let left = false
    void jobEnd(runningId).then(() => {
      if (!left) router.refresh()
    })
    return () => {
      left = true
    }
  }, [runningId, jobEnd, router])
  const shown = (
    <>
      {job && (
        <div className="mb-3.5">
          <JobStrip job={job} />
        </div>
      )}
      {notice}
    </>
  )
  return (
    <JobRuns.Provider value={laidAside || job?.state === 'running'}>
      <NoticeProvider notice={shown}>{children}</NoticeProvider>
    </JobRuns.Provider>
  )
}
