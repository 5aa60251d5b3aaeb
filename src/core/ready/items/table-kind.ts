import type { ReadyItem, ReadyKind } from '../port'

/** Firmware by UEFI starts from a GPT, and one by BIOS from an MBR, with rare exceptions that a trial shows. */
export const tableKind: ReadyKind = ({ startsIn, source }) => {
  if (!startsIn || !source.partitions.some((p) => p.system)) return []
  const { name, mode, table } = startsIn
  const item = (rest: Pick<ReadyItem, 'state' | 'title' | 'why'> & Partial<ReadyItem>): ReadyItem[] => [
    { id: 'table-kind', known: 'by the fit', ...rest },
  ]
  if (mode === 'uefi' && table === 'mbr')
    return item({
      state: 'blocks',
      title: `The ${name} starts by UEFI, and the new drive gets an MBR.`,
      why: 'From that it does not start.',
      how: 'Have the table become a GPT in Fit; Proof then makes an EFI system partition with the system’s own loader.',
      overridable: 'The first start will stop there.',
    })
  if (mode === 'bios' && table === 'gpt')
    return item({
      state: 'blocks',
      title: `The ${name} starts by BIOS, and the new drive gets a GPT.`,
      why: 'This system’s loader for a BIOS needs an MBR.',
      how: 'Have the table become an MBR in Fit, or move it to a computer that starts by UEFI.',
      overridable: 'The first start will stop there.',
    })
  if (table === source.scheme) return []
  return item({
    state: 'settled',
    title: 'The table becomes a GPT',
    why: 'room for an EFI system partition is kept; Proof makes it with the system’s own loader',
  })
}
