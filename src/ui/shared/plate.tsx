import { clsx } from 'clsx'
import { formatCapacity, formatSize } from '@/core/bytes/size'
import type { LentBy } from '@/core/things/drive'
import { Pennant } from './pennant'

/** What a plate needs of a drive. */
export interface PlateDrive {
  readonly name: string
  /** Empty of an image, which has none. */
  readonly serial: string
  readonly place: string
  readonly sizeBytes: number
  /** The bench that lends it over the network. */
  readonly lentBy?: LentBy | null
}

interface PlateProps {
  readonly drive: PlateDrive
  /** What the drive is here: `Source, read only`. */
  readonly role?: string
  readonly tone?: 'plain' | 'erases'
  /** A last line in place of where it sits. */
  readonly note?: string
  /** Shows the capacity both as sold and as the system will say. */
  readonly capacity?: boolean
}

/** A drive's identity card: model, serial, place. Stands wherever a drive is named. */
export function Plate({ drive, role, tone = 'plain', note, capacity }: PlateProps) {
  return (
    <div
      className={clsx(
        'rounded-md border bg-paper px-3 py-2.5',
        tone === 'erases' ? 'border-vermilion' : 'border-line-strong',
      )}
    >
      {role && <p className={clsx('text-[13px]', tone === 'erases' ? 'text-vermilion' : 'text-ink-soft')}>{role}</p>}
      {drive.lentBy && <Pennant {...drive.lentBy} />}
      <p className="text-[15px] font-bold">{drive.name}</p>
      {drive.serial !== '' && <p className="font-mono text-[13px] text-ink-soft">s/n {drive.serial}</p>}
      <p className="text-[13px] text-ink-soft">{note ?? drive.place}</p>
      {capacity && (
        <p className="text-[13px] text-ink-soft">
          sold as {formatCapacity(drive.sizeBytes)}, holds{' '}
          <span className="font-mono">{formatSize(drive.sizeBytes)}</span>
        </p>
      )}
    </div>
  )
}
