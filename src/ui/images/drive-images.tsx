'use client'

import { formatSize } from '@/core/bytes/size'
import type { ImageOnDrive, ImageStoreChoice } from '@/core/image/views'
import { post, useAct } from '@/ui/frame/act'
import { AsideBlock } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { DeleteImage } from './delete-image'
import type { DriveChoice } from './drive-choice'
import { CaptureForm } from './forms'

export interface DriveImagesProps {
  readonly drive: DriveChoice
  /** Images that it keeps in its volumes. */
  readonly images: readonly ImageOnDrive[]
  /** Drives on which an image of it can be kept. */
  readonly stores: readonly ImageStoreChoice[]
  readonly partitions: readonly { readonly number: number; readonly title: string }[]
}

/** The images on a drive, and making one of it. */
export function DriveImages({ drive, images, stores, partitions }: DriveImagesProps) {
  return (
    <>
      {images.length > 0 && (
        <AsideBlock title="Images on it">
          <ul className="space-y-3" data-testid="images-on-drive">
            {images.map((image) => (
              <KeptImage key={`${image.partition} ${image.name}`} driveId={drive.id} image={image} />
            ))}
          </ul>
        </AsideBlock>
      )}
      <AsideBlock title="Make an image of it">
        <CaptureForm drives={[drive]} stores={stores} partitions={partitions} next="/images" />
      </AsideBlock>
    </>
  )
}

function KeptImage({ driveId, image }: { driveId: string; image: ImageOnDrive }) {
  const { act, busy } = useAct()
  const { partition, name, bytes, recorded, unfinished } = image
  const on = { driveId, partition }
  const start = (request: object) => void act(() => post('/api/images/jobs', request), '/images')
  return (
    <li>
      <p className="font-semibold break-all">{name}</p>
      <p className="text-[13px] text-ink-soft">
        {formatSize(bytes)}, partition {partition};{' '}
        {unfinished ? (
          <span className="text-vermilion">not whole: it was not finished</span>
        ) : recorded ? (
          'its record lies beside it'
        ) : (
          'no record, not made here'
        )}
      </p>
      <p className="mt-1.5 flex flex-wrap gap-2">
        {!unfinished && (
          <>
            <Button
              small
              disabled={busy || !recorded}
              title="Reads it against the record of when it was made"
              onClick={() => start({ kind: 'verify', input: name, store: on })}
            >
              Verify
            </Button>
            <Button
              small
              disabled={busy}
              title="Writes it into the images folder, where it can be looked into, compared and moved"
              onClick={() => start({ kind: 'take', input: name, from: on })}
            >
              Take to this host
            </Button>
          </>
        )}
        <DeleteImage name={name} takes={formatSize(bytes)} on={on} small />
      </p>
    </li>
  )
}
