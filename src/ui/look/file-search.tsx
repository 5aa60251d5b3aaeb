'use client'

import { type FormEvent, useEffect, useRef, useState } from 'react'
import { formatSize, groupDigits } from '@/core/bytes/size'
import { counted } from '@/core/words'
import { Button } from '@/ui/shared/button'

interface FileSearchProps {
  readonly subject: { readonly kind: 'drives' | 'images'; readonly id: string }
  readonly volumes: readonly { readonly number: number; readonly title: string }[]
}

interface Found {
  readonly partition: number
  readonly path: string
  readonly kind: string
  readonly sizeBytes: number
}

interface End {
  readonly looked: number
  readonly found: number
  readonly more: boolean
  readonly unread: readonly { readonly partition: number; readonly path: string; readonly why: string }[]
}

/** A line of the answer: how far it is, or how it ended. */
interface Line {
  readonly looked?: number
  readonly at?: string
  readonly found?: readonly Found[]
  readonly end?: End
  readonly sentence?: string
}

interface State {
  readonly looked: number
  readonly at: string
  readonly found: readonly Found[]
  readonly end?: End
  readonly sentence?: string
}

const ALL = ''

/** Looks for files by name on a volume or on the whole disk, and shows them as they are met. */
export function FileSearch({ subject, volumes }: FileSearchProps) {
  const [words, setWords] = useState('')
  const [where, setWhere] = useState(ALL)
  const [state, setState] = useState<State>()
  const running = useRef<AbortController>(undefined)
  useEffect(() => () => running.current?.abort(), [])
  const runs = state !== undefined && !state.end && !state.sentence

  const search = async (event: FormEvent) => {
    event.preventDefault()
    running.current?.abort()
    const abort = new AbortController()
    running.current = abort
    let now: State = { looked: 0, at: '', found: [] }
    setState(now)
    const take = (line: Line) => {
      const found = line.found?.length ? [...now.found, ...line.found] : now.found
      now = {
        ...now,
        found,
        looked: line.looked ?? now.looked,
        at: line.at ?? now.at,
        end: line.end,
        sentence: line.sentence,
      }
      setState(now)
    }
    const query = new URLSearchParams({ ...subject, words, ...(where === ALL ? {} : { partition: where }) })
    try {
      await eachLine(await fetch(`/api/look/search?${query}`, { signal: abort.signal }), take)
    } catch {
      if (!abort.signal.aborted) take({ sentence: 'The server could not be reached.' })
    }
  }
  const stop = () => {
    running.current?.abort()
    setState((s) => s && { ...s, sentence: `You stopped it after ${counted(s.looked, 'entry', 'entries')}.` })
  }
  return (
    <section className="mt-5" data-testid="file-search">
      <h2 className="mb-2 font-bold">Find files by name</h2>
      <div className="panel p-3">
        <form className="flex flex-wrap gap-3" onSubmit={(event) => void search(event)}>
          <input
            aria-label="Part of the name"
            placeholder="Part of the name"
            value={words}
            maxLength={200}
            onChange={(event) => setWords(event.target.value)}
            className="min-w-0 flex-1 basis-52 rounded-md border border-line-strong bg-sheet px-2.5 py-1.5"
          />
          <select
            aria-label="Where to look"
            value={where}
            onChange={(event) => setWhere(event.target.value)}
            className="max-w-full rounded-md border border-line-strong bg-sheet px-2.5 py-1.5"
          >
            <option value={ALL}>All volumes</option>
            {volumes.map((v) => (
              <option key={v.number} value={v.number}>
                {v.title}
              </option>
            ))}
          </select>
          {runs ? (
            <Button onClick={stop}>Stop</Button>
          ) : (
            <Button type="submit" disabled={words.trim() === ''}>
              Search
            </Button>
          )}
        </form>
        {state && (
          <Result state={state} subject={subject} titleOf={(n) => volumes.find((v) => v.number === n)?.title} />
        )}
      </div>
    </section>
  )
}

/** Reads an answer of one JSON value in each line; a refusal is one such value, too. */
async function eachLine(response: Response, take: (line: Line) => void): Promise<void> {
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  for (;;) {
    const { value, done } = await reader.read()
    rest += value ?? ''
    const lines = rest.split('\n')
    rest = done ? '' : lines.pop()!
    for (const line of lines) if (line.trim()) take(JSON.parse(line) as Line)
    if (done) return
  }
}

function Result({
  state,
  subject,
  titleOf,
}: {
  state: State
  subject: FileSearchProps['subject']
  titleOf: (partition: number) => string | undefined
}) {
  const { found, end, sentence, looked, at } = state
  const href = (file: Found) =>
    `/api/look/file?${new URLSearchParams({ ...subject, partition: String(file.partition), path: file.path })}`
  const words = sentence
    ? sentence
    : end
      ? `${end.found === 0 ? 'None' : groupDigits(end.found)} of ${counted(end.looked, 'entry', 'entries')}${end.more ? '; there are more, so type more of the name' : ''}.`
      : `${groupDigits(looked)} looked at. ${at}`
  return (
    <div className="mt-3">
      <p className="truncate text-ink-soft" role="status" data-state={end ? 'done' : sentence ? 'failed' : 'running'}>
        {words}
      </p>
      {found.length > 0 && (
        <ul className="mt-2 max-h-[320px] overflow-y-auto" tabIndex={0} aria-label="Files found">
          {found.map((file) => (
            <li
              key={`${file.partition}${file.path}`}
              className="flex flex-wrap items-baseline gap-x-3 border-b border-line py-1 last:border-0"
            >
              {file.kind === 'file' ? (
                <a href={href(file)} download className="min-w-0 font-mono text-[13px] break-all hover:underline">
                  {file.path}
                </a>
              ) : (
                <span className="min-w-0 font-mono text-[13px] break-all">
                  {file.path}
                  {file.kind === 'directory' && '/'}
                </span>
              )}
              <span className="ml-auto text-[12.5px] whitespace-nowrap text-ink-soft">
                {titleOf(file.partition)}
                {file.kind === 'file' && <span className="ml-3 font-mono">{formatSize(file.sizeBytes)}</span>}
              </span>
            </li>
          ))}
        </ul>
      )}
      {end && end.unread.length > 0 && (
        <p className="mt-2 text-[13px] text-ochre">
          {counted(end.unread.length, 'folder')} could not be read, the first {end.unread[0].path}: {end.unread[0].why}
        </p>
      )}
    </div>
  )
}
