'use client'

import { useState } from 'react'
import { formatSize } from '@/core/bytes/size'
import { post, useAct } from '@/ui/frame/act'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { type Fact, Facts } from '@/ui/shared/facts'
import { type Column, SelectableTable } from '@/ui/shared/selectable-table'
import { CompareForm } from '@/ui/look/compare-form'
import { CaptureForm, ConvertForm } from './forms'
import { JobList } from './job-list'
import type { ImageStoreChoice, ImageSummary } from '@/core/image/views'
import type { JobView } from '@/core/job'
import type { DriveChoice } from './drive-choice'
import { type UnfinishedUpload, Uploads } from './uploads'
import { DeleteImage } from './delete-image'

export interface ImagesProps {
  readonly folder: string
  readonly images: readonly ImageSummary[]
  readonly jobs: readonly JobView[]
  readonly unfinished: readonly UnfinishedUpload[]
  readonly drives: readonly DriveChoice[]
  /** Drives besides the images folder on which images can be kept. */
  readonly stores: readonly ImageStoreChoice[]
  /** The image that is selected at first. */
  readonly picked?: string
}

const COLUMNS: readonly Column[] = [
  { name: 'Format', kind: 'words' },
  { name: 'Disk', kind: 'number' },
  { name: 'On this host', kind: 'number' },
  { name: 'Partition table', kind: 'words' },
  { name: 'Holds', kind: 'words' },
]

/** The images folder: what is in each file, and what can be done with it. */
export function Images({ folder, images, jobs, unfinished, drives, stores, picked: first }: ImagesProps) {
  const { act, go, busy } = useAct()
  const [picked, setPicked] = useState(first)
  const selected = images.find((i) => i.name === picked) ?? images[0]
  const opened = selected?.opened
  return (
    <Stage
      heading={headingOf(images)}
      reason={
        <>
          Images are opened for reading only. They lie in{' '}
          <span className="font-mono text-[13.5px] break-all">{folder}</span>.
        </>
      }
      aside={
        selected && (
          <>
            <AsideBlock title="Selected image">
              <p className="mb-2 text-[17px] font-bold break-words">{selected.name}</p>
              <Facts facts={factsOf(selected)} />
              {selected.sentence && <p className="mt-2 text-[13px] text-vermilion">{selected.sentence}</p>}
              {/\.(ova|ovf)$/i.test(selected.name) && (
                <Button
                  className="mt-3 w-full"
                  disabled={busy}
                  onClick={() => void act(() => post('/api/images/jobs', { kind: 'unpack', input: selected.name }))}
                >
                  Make a virtual machine of it
                </Button>
              )}
              {opened && (
                <Button
                  className="mt-3 w-full"
                  disabled={busy || selected.onBench.length > 0}
                  onClick={() => void act(() => post('/api/images/bench', { image: selected.name }))}
                >
                  {selected.onBench.length > 0 ? 'On the bench as a drive' : 'Put on the bench as a drive'}
                </Button>
              )}
              {opened && (
                <div className="mt-2 grid grid-cols-2 gap-2">
                  <Button
                    disabled={busy || !selected.recorded}
                    title={
                      selected.recorded
                        ? 'Reads it against the record of when it was made'
                        : 'No record lies beside it: it was not made here'
                    }
                    onClick={() => void act(() => post('/api/images/jobs', { kind: 'verify', input: selected.name }))}
                  >
                    Verify
                  </Button>
                  <Button
                    disabled={busy || selected.onBench.length > 0}
                    title="Writes it anew without what its systems have freed; it stays as it is until the new one is verified"
                    onClick={() => void act(() => post('/api/images/jobs', { kind: 'compact', input: selected.name }))}
                  >
                    Compact
                  </Button>
                </div>
              )}
              {selected.onBench.length === 0 && (
                <DeleteImage
                  key={selected.name}
                  name={selected.name}
                  takes={`${formatSize(selected.hostBytes)} on this host`}
                />
              )}
            </AsideBlock>
            {(opened || selected.packing) && (
              <AsideBlock title="Convert">
                <ConvertForm key={selected.name} image={selected} />
              </AsideBlock>
            )}
            {opened && (
              <AsideBlock title="Compare">
                <CompareForm
                  key={selected.name}
                  disk={{ kind: 'images', id: selected.name }}
                  others={[
                    ...images
                      .filter((i) => i.opened && i.name !== selected.name)
                      .map(({ name }) => ({ kind: 'images' as const, id: name, name })),
                    ...drives.map(({ id, name, serial }) => ({
                      kind: 'drives' as const,
                      id,
                      name: `${name}, ${serial}`,
                    })),
                  ]}
                />
              </AsideBlock>
            )}
          </>
        )
      }
      next={
        opened && (
          <NextAction
            label="Look inside"
            onAct={() => go(`/images/${encodeURIComponent(selected.name)}`)}
            disabled={busy}
          />
        )
      }
    >
      <Uploads unfinished={unfinished} />
      {images.length > 0 && (
        <SelectableTable
          label="Images"
          title="Image"
          columns={COLUMNS}
          rows={images.map((image) => ({ key: image.name, title: image.name, cells: cellsOf(image) }))}
          selected={selected?.name ?? ''}
          onSelect={setPicked}
          testId="images"
          wide
        />
      )}
      <JobList jobs={jobs} />
      <section className="mt-5">
        <h2 className="mb-2 font-bold">Make an image of a drive</h2>
        <div className="panel p-4">
          <CaptureForm drives={drives} stores={stores} />
        </div>
      </section>
    </Stage>
  )
}

function headingOf(images: readonly ImageSummary[]): string {
  if (images.length === 0) return 'There are no images yet'
  const wrong = images.filter((i) => i.opened?.damaged || i.sentence)
  const count = `${images.length} ${images.length === 1 ? 'image' : 'images'}`
  if (wrong.length === 0) return `${count}, none of them damaged`
  return `${count}, ${wrong.length === 1 ? 'one of them' : `${wrong.length} of them`} damaged`
}

function cellsOf({ opened, packing, sentence, hostBytes }: ImageSummary) {
  if (!opened) {
    const why = packing ? `packed with ${packing}` : 'cannot be opened'
    return [packing ?? '—', '', formatSize(hostBytes), why, sentence ?? '']
  }
  return [
    opened.format,
    formatSize(opened.virtualBytes),
    formatSize(hostBytes),
    opened.damaged ? <span className="font-semibold text-vermilion">{opened.scheme}, damaged</span> : opened.scheme,
    opened.contents.join('; ') || 'nothing',
  ]
}

function factsOf({ opened, packing, fileBytes, hostBytes, onBench, recorded }: ImageSummary): Fact[] {
  return [
    ...(opened
      ? ([
          { name: 'Format', value: opened.format },
          { name: 'Disk', value: formatSize(opened.virtualBytes), mono: true },
          { name: 'Used on it', value: formatSize(opened.usedBytes), mono: true },
          { name: 'Record', value: recorded ? 'beside it' : 'none, not made here' },
        ] satisfies Fact[])
      : [{ name: 'Format', value: packing ? `packed with ${packing}` : 'not known' }]),
    { name: 'File', value: formatSize(fileBytes), mono: true },
    { name: 'On this host', value: formatSize(hostBytes), mono: true },
    ...(opened?.parent ? [{ name: 'Builds on', value: opened.parent }] : []),
    ...(opened
      ? [
          opened.damaged
            ? { name: 'State', value: 'damaged', tone: 'bad' as const }
            : opened.cautions > 0
              ? { name: 'State', value: `${opened.cautions} to look at`, tone: 'caution' as const }
              : { name: 'State', value: 'nothing wrong seen', tone: 'good' as const },
        ]
      : []),
    ...(onBench.length > 0 ? [{ name: 'On the bench', value: onBench.join(', ') }] : []),
  ]
}
