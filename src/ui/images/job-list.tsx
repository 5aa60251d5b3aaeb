'use client'

import { useState } from 'react'
import { clsx } from 'clsx'
import { formatSize, groupDigits } from '@/core/bytes/size'
import { counted } from '@/core/words'
import { useAct } from '@/ui/frame/act'
import { useJobs } from '@/ui/frame/events'
import { stopJob } from '@/ui/job/job-strip'
import { Button } from '@/ui/shared/button'
import { ProgressBar } from '@/ui/shared/progress-bar'
import type { JobView } from '@/core/job'

/** What is being done to images, and what came of it. */
export function JobList({ jobs }: { jobs: readonly JobView[] }) {
  const [live, setLive] = useState<Readonly<Record<string, JobView>>>({})
  useJobs((job) => setLive((before) => ({ ...before, [job.id]: job })))
  if (jobs.length === 0) return null
  return (
    <section className="mt-5">
      <h2 className="mb-2 font-bold">Work on images</h2>
      <ul className="space-y-2.5" data-testid="jobs">
        {jobs.map((known) => {
          // The page's own state is newer than an event once the job has ended.
          const job = known.state === 'running' ? (live[known.id] ?? known) : known
          return (
            <li key={job.id} className="panel p-3" data-state={job.state}>
              <JobLine job={job} />
            </li>
          )
        })}
      </ul>
    </section>
  )
}

function JobLine({ job }: { job: JobView }) {
  const { act, busy } = useAct()
  return (
    <>
      <div className="flex flex-wrap items-baseline justify-between gap-x-4">
        <p className="font-semibold break-all">{job.title}</p>
        {job.state === 'running' && (
          <Button small disabled={busy} onClick={() => void act(() => stopJob(job.id))}>
            Stop
          </Button>
        )}
      </div>
      {job.state === 'running' && (
        <ProgressBar
          label={job.title}
          share={job.total > 0 ? job.done / job.total : undefined}
          note={job.total > 0 ? `${formatSize(job.done)} of ${formatSize(job.total)}` : formatSize(job.done)}
        />
      )}
      {job.message && (
        <p className={clsx(job.state === 'failed' || job.state === 'interrupted' ? 'text-vermilion' : 'text-ink-soft')}>
          {job.message}
        </p>
      )}
      {job.result && <Result result={job.result} />}
    </>
  )
}

function Result({ result }: { result: NonNullable<JobView['result']> }) {
  if (result.kind === 'written') {
    const { lost, maps } = result
    const unchecked = maps.filter((map) => !map.checked)
    return (
      <div className="text-[13.5px] text-ink-soft">
        <p>
          {lost.sectors === 0 ? (
            <span className="font-semibold text-weed">Whole.</span>
          ) : (
            <span className="font-semibold text-vermilion">
              Not whole: {counted(lost.sectors, 'sector')} did not read; zeros stand in their place.
            </span>
          )}{' '}
          A disk of {formatSize(result.virtualBytes)} in a file of {formatSize(result.fileBytes)},{' '}
          {formatSize(result.hostBytes)} of it on this host
          {result.hostBytesBefore !== undefined && `, where it took ${formatSize(result.hostBytesBefore)} before`}.
          {result.verified && ' Read back and equal.'}
        </p>
        {result.leftOut !== undefined && result.leftOut.files > 0 && (
          <p>
            Left out: {counted(result.leftOut.files, 'file')}, {formatSize(result.leftOut.bytes)}.
          </p>
        )}
        {result.notes?.map((note) => (
          <p key={note}>{note}</p>
        ))}
        {lost.files.length > 0 && <FileNames files={lost.files} />}
        {maps.map(({ partition, finding }) =>
          finding ? (
            <p key={partition}>
              Partition {partition}: {finding} What either has was taken.
            </p>
          ) : null,
        )}
        {unchecked.length > 0 && (
          <p>
            The maps of used blocks of partition {unchecked.map((map) => map.partition).join(', ')} were believed, not
            held against the files.
          </p>
        )}
      </div>
    )
  }
  if (result.kind === 'verified') return <Verified result={result} />
  const { comparison, touched, sectorSize, unreadable } = result
  const [lostOfA, lostOfB] = unreadable
  if (comparison.equal && lostOfA + lostOfB > 0) {
    return (
      <p className="font-semibold text-vermilion">
        What reads is equal; {counted(lostOfA + lostOfB, 'sector')} did not read, and nobody knows of those.
      </p>
    )
  }
  if (comparison.equal) {
    return <p className="font-semibold text-weed">Equal, all {formatSize(comparison.sizes[0])} of them.</p>
  }
  const [a, b] = comparison.sizes
  return (
    <div className="text-[13.5px]">
      <p className="font-semibold text-vermilion">
        {comparison.firstDifference === null
          ? `They differ in size only: ${formatSize(a)} and ${formatSize(b)}.`
          : `They first differ at sector ${groupDigits(Math.floor(comparison.firstDifference / sectorSize))}.`}
      </p>
      {comparison.firstDifference !== null && (
        <p className="text-ink-soft">
          Byte <span className="font-mono">{groupDigits(comparison.firstDifference)}</span>;{' '}
          {groupDigits(comparison.differingBytes)} bytes differ in all
          {touched?.outside ? ', some of them outside all partitions, as in the partition table' : ''}.
        </p>
      )}
      {touched && touched.files.length > 0 && <FileNames files={touched.files} />}
      {touched?.incomplete && <p className="text-ink-soft">Not all files could be looked through.</p>}
    </div>
  )
}

function Verified({ result }: { result: Extract<NonNullable<JobView['result']>, { kind: 'verified' }> }) {
  const { equal, checkedBytes, madeAt, differing, unreadable, strange, touched } = result
  const day = madeAt.slice(0, 10)
  if (equal)
    return (
      <p className="text-[13.5px] text-ink-soft">
        <span className="font-semibold text-weed">As it was made.</span> {formatSize(checkedBytes)} are what was
        recorded on {day}, and there is nothing else.
      </p>
    )
  const parts = [
    ...(differing > 0 ? [`${counted(differing, 'stretch', 'stretches')} differ`] : []),
    ...(unreadable > 0 ? [`${counted(unreadable, 'stretch', 'stretches')} cannot be read`] : []),
    ...(strange > 0 ? [`${counted(strange, 'stretch', 'stretches')} hold what was not recorded`] : []),
  ]
  return (
    <div className="text-[13.5px]">
      <p className="font-semibold text-vermilion">
        It is not what was recorded on {day}: {parts.join(', ')}.
      </p>
      {touched && touched.files.length > 0 && <FileNames files={touched.files} />}
    </div>
  )
}

function FileNames({ files }: { files: readonly { readonly partition: number; readonly path: string }[] }) {
  return (
    <ul className="mt-1 max-h-40 overflow-y-auto font-mono text-[12.5px]" tabIndex={0} aria-label="Files">
      {files.map((file) => (
        <li key={`${file.partition}${file.path}`}>
          partition {file.partition}: {file.path}
        </li>
      ))}
    </ul>
  )
}
