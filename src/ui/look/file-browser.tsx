'use client'

import { useState } from 'react'
import { File, Folder, Link2 } from 'lucide-react'
import type { DirectoryEntry } from '@/core/filesystem'
import { formatSize } from '@/core/bytes/size'
import { useAnswer } from '@/ui/shared/use-answer'

interface FileBrowserProps {
  readonly subject: { readonly kind: 'drives' | 'images'; readonly id: string }
  readonly partition: number
  readonly title: string
}

/** The files of a volume, a folder at a time; a file is downloaded by its name. */
export function FileBrowser({ subject, partition, title }: FileBrowserProps) {
  const [path, setPath] = useState('/')
  const query = (at: string) => new URLSearchParams({ ...subject, partition: String(partition), path: at })
  const { value: entries, sentence } = useAnswer<readonly DirectoryEntry[]>(`/api/look/files?${query(path)}`)
  const parts = path.split('/').filter(Boolean)
  return (
    <section className="mt-5" data-testid="files">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-x-4">
        <h2 className="font-bold">Files of {title}</h2>
        <a
          href={`/api/look/folder?${query(path)}`}
          download
          className="text-[13.5px] font-semibold text-sea-4 underline underline-offset-2"
        >
          Download {path === '/' ? 'all of it' : 'this folder'} as a tar
        </a>
      </div>
      <div className="panel p-3">
        <nav aria-label="Folder" className="mb-2 flex flex-wrap items-center gap-x-1 font-mono text-[13px]">
          <button type="button" className="rounded px-1 hover:bg-sunk" onClick={() => setPath('/')}>
            {title}
          </button>
          {parts.map((part, i) => (
            <span key={i}>
              <span aria-hidden>/</span>
              <button
                type="button"
                className="rounded px-1 hover:bg-sunk"
                onClick={() => setPath(`/${parts.slice(0, i + 1).join('/')}`)}
              >
                {part}
              </button>
            </span>
          ))}
        </nav>
        {sentence && <p className="text-ink-soft">{sentence}</p>}
        {entries && (
          <ul className="max-h-[320px] overflow-y-auto" tabIndex={0} aria-label={`Entries of ${path}`}>
            {entries.map((entry) => (
              <li key={entry.path} className="flex items-center gap-2.5 border-b border-line py-1 last:border-0">
                <Entry entry={entry} onOpen={() => setPath(entry.path)} href={`/api/look/file?${query(entry.path)}`} />
              </li>
            ))}
            {entries.length === 0 && <li className="text-ink-soft">This folder is empty.</li>}
          </ul>
        )}
      </div>
    </section>
  )
}

function Entry({ entry, onOpen, href }: { entry: DirectoryEntry; onOpen: () => void; href: string }) {
  if (entry.kind === 'directory') {
    return (
      <>
        <Folder size={15} className="shrink-0 text-sea-4" aria-label="Folder" />
        <button type="button" onClick={onOpen} className="min-w-0 text-left font-semibold break-all hover:underline">
          {entry.name}
        </button>
      </>
    )
  }
  const Icon = entry.kind === 'link' ? Link2 : File
  return (
    <>
      <Icon size={15} className="shrink-0 text-ink-soft" aria-label={entry.kind === 'link' ? 'Link' : 'File'} />
      {entry.kind === 'file' ? (
        <a href={href} download className="min-w-0 break-all hover:underline">
          {entry.name}
        </a>
      ) : (
        <span className="min-w-0 break-all text-ink-soft">{entry.name}</span>
      )}
      <span className="ml-auto font-mono text-[12.5px] whitespace-nowrap text-ink-soft">
        {formatSize(entry.sizeBytes)}
      </span>
    </>
  )
}
