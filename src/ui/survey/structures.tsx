'use client'

import { useMemo, useState } from 'react'
import { clsx } from 'clsx'
import { Button } from '@/ui/shared/button'
import { useAnswer } from '@/ui/shared/use-answer'
import { groupDigits } from '@/core/bytes/size'

interface Field {
  readonly name: string
  readonly offset: number
  readonly length: number
  readonly value: string
}

interface Sector {
  readonly lba: number
  readonly offsetBytes: number
  /** Base 64. */
  readonly bytes: string
  readonly structures: readonly { readonly name: string; readonly at: number; readonly fields: readonly Field[] }[]
  readonly places: readonly { readonly name: string; readonly lba: number }[]
}

const ROW = 16

/** The bytes of a sector beside the fields of what is in it. A field that is pointed at lights up its bytes. */
export function Structures({ subject }: { subject: { kind: 'drives' | 'images'; id: string } }) {
  const [open, setOpen] = useState(false)
  const [lba, setLba] = useState(0)
  const [field, setField] = useState<{ from: number; to: number }>()
  const query = new URLSearchParams({ ...subject, lba: String(lba) })
  const { value: sector, sentence } = useAnswer<Sector>(open ? `/api/look/sector?${query}` : null)
  const bytes = useMemo(
    () => (sector ? Uint8Array.from(atob(sector.bytes), (c) => c.charCodeAt(0)) : undefined),
    [sector],
  )
  return (
    <section className="mt-5">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h2 className="font-bold">The structures themselves</h2>
        <Button small aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? 'Put them away' : 'Show bytes and fields'}
        </Button>
      </div>
      {open && (
        <div className="panel mt-2 p-4" data-testid="structures">
          <div className="mb-3 flex flex-wrap items-center gap-2">
            {sector?.places.map((place) => (
              <button
                key={place.lba}
                type="button"
                aria-pressed={place.lba === lba}
                onClick={() => setLba(place.lba)}
                className={clsx(
                  'rounded border px-2 py-0.5 text-[13px]',
                  place.lba === lba
                    ? 'border-magenta bg-magenta-wash font-semibold'
                    : 'border-line-strong hover:bg-sunk',
                )}
              >
                {place.name}
              </button>
            ))}
            <form
              className="flex items-center gap-1.5 text-[13px]"
              onSubmit={(event) => {
                event.preventDefault()
                const typed = Number(new FormData(event.currentTarget).get('lba'))
                if (Number.isInteger(typed) && typed >= 0) setLba(typed)
              }}
            >
              <label htmlFor="lba">Sector</label>
              <input
                id="lba"
                name="lba"
                key={lba}
                defaultValue={lba}
                inputMode="numeric"
                className="w-28 rounded border border-line-strong bg-sheet px-2 py-0.5 font-mono"
              />
              <Button small type="submit">
                Go
              </Button>
            </form>
          </div>
          {sentence && <p className="mb-3 text-vermilion">{sentence}</p>}
          {sector && bytes && (
            <div className="grid gap-5 xl:grid-cols-[auto_minmax(0,1fr)]">
              <div className="max-h-[440px] overflow-auto" tabIndex={0} role="region" aria-label="Bytes">
                <p className="caption mb-1.5">
                  Sector {groupDigits(sector.lba)}, byte {groupDigits(sector.offsetBytes)}
                </p>
                <Dump bytes={bytes} mark={field} />
              </div>
              <div className="max-h-[440px] min-w-0 overflow-y-auto" tabIndex={0} role="region" aria-label="Fields">
                {sector.structures.length === 0 && (
                  <p className="text-ink-soft">Nothing known begins in this sector.</p>
                )}
                {sector.structures.map(({ name, at, fields }, i) => (
                  <div key={`${name}-${i}`} className="mb-4">
                    <p className="caption mb-1.5">{name}</p>
                    <table className="w-full text-[12.5px]">
                      <tbody className="font-mono">
                        {fields.map((f) => (
                          <tr
                            key={f.name}
                            onMouseEnter={() => setField({ from: at + f.offset, to: at + f.offset + f.length })}
                            onMouseLeave={() => setField(undefined)}
                            className="border-b border-line hover:bg-magenta-wash"
                          >
                            <td className="py-0.5 pr-3 text-right text-ink-soft">{hex(at + f.offset, 3)}</td>
                            <td className="py-0.5 pr-3">{f.name}</td>
                            <td className="py-0.5 break-all">{f.value}</td>
                          </tr>
                        ))}
                      </tbody>
                    </table>
                  </div>
                ))}
              </div>
            </div>
          )}
        </div>
      )}
    </section>
  )
}

function Dump({ bytes, mark }: { bytes: Uint8Array; mark?: { from: number; to: number } }) {
  const rows = Math.ceil(bytes.length / ROW)
  return (
    <table className="font-mono text-[12px] leading-[1.45] whitespace-pre">
      <tbody>
        {Array.from({ length: rows }, (_, row) => {
          const from = row * ROW
          const line = bytes.subarray(from, from + ROW)
          return (
            <tr key={from}>
              <td className="pr-3 text-ink-soft">{hex(from, 3)}</td>
              <td className="pr-3">
                {Array.from(line, (byte, i) => {
                  const at = from + i
                  const marked = mark && at >= mark.from && at < mark.to
                  return (
                    <span
                      key={at}
                      className={clsx(marked && 'bg-magenta text-on-magenta', byte === 0 && !marked && 'text-ink-soft')}
                    >
                      {hex(byte, 2)}
                      {i === 7 ? '  ' : ' '}
                    </span>
                  )
                })}
              </td>
              <td className="text-ink-soft">
                {Array.from(line, (byte) => (byte >= 32 && byte < 127 ? String.fromCharCode(byte) : '·')).join('')}
              </td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

function hex(value: number, digits: number): string {
  return value.toString(16).padStart(digits, '0')
}
