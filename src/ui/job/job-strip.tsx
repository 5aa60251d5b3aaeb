'use client'

import { useState } from 'react'
import type { JobView } from '@/core/job'
import { useAct } from '@/ui/frame/act'
import type { Outcome } from '@/ui/frame/actions'
import { useJobs } from '@/ui/frame/events'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { ProgressBar } from '@/ui/shared/progress-bar'

/** Stops a job. */
export async function stopJob(id: string): Promise<Outcome> {
  return (await (await fetch(`/api/jobs/${id}`, { method: 'DELETE' })).json()) as Outcome
}

/** A job that runs, with how far it is; or why the last one did not come to its end. */
export function JobStrip({ job: known }: { job: JobView }) {
  const [live, setLive] = useState<JobView>()
  useJobs((job) => {
    if (job.id === known.id) setLive(job)
  })
  const job = live?.id === known.id && known.state === 'running' ? live : known
  if (job.state !== 'running') {
    return (
      <div role="status" data-testid="job" data-state={job.state}>
        <Callout tone="bad">
          <strong>{job.title}.</strong> {job.message}
        </Callout>
      </div>
    )
  }
  const share = job.total > 0 ? job.done / job.total : undefined
  return (
    <div className="panel p-3" role="status" data-testid="job" data-state="running">
      <div className="flex flex-wrap items-baseline justify-between gap-x-4">
        <p className="font-semibold">{job.title}</p>
        {job.stoppable && <StopButton id={job.id} />}
      </div>
      <ProgressBar label={job.title} share={share} note={job.about ?? 'running'} />
    </div>
  )
}

function StopButton({ id }: { id: string }) {
  const { act } = useAct()
  return (
    <Button small onClick={() => void act(() => stopJob(id))}>
      Stop
    </Button>
  )
}
