import type { NeedKind, ReadyItem } from '../port'

/** Firmware of one kind starts from tables of one kind; what a fit makes of that, the list before the copy says. */
export const firmwareKind: NeedKind = ({ goal }) => {
  if (goal?.kind !== 'other-computer' || !goal.firmware) return []
  const { name, firmware } = goal
  const item = (rest: Pick<ReadyItem, 'state' | 'title' | 'why'>): ReadyItem[] => [
    { id: 'firmware-kind', known: 'read now', ...rest },
  ]
  if (firmware.mode === 'uefi' && firmware.scheme === 'mbr')
    return item({
      state: 'settled',
      title: `The ${name} starts by UEFI, and the old drive has an MBR`,
      why: 'the table can become a GPT in Fit; Proof then makes an EFI system partition with the system’s own loader',
    })
  if (firmware.mode === 'bios' && firmware.scheme === 'gpt')
    return item({
      state: 'open',
      title: `The ${name} starts by BIOS, and the old drive has a GPT.`,
      why: 'This system’s loader for a BIOS needs an MBR, which Fit can make where it has room for the partitions.',
    })
  return []
}
