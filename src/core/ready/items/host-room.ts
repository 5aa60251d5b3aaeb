import { formatSize } from '../../bytes/size'
import type { ReadyItem, ReadyKind } from '../port'

/** The drives of the bench are files of this host, which has to have room for what is written. */
export const hostRoom: ReadyKind = ({ hostNeededBytes, hostFreeBytes }) =>
  hostNeededBytes === null ? [] : [itemFor(hostNeededBytes, hostFreeBytes)]

function itemFor(hostNeededBytes: number, hostFreeBytes: number): ReadyItem {
  const base = { id: 'host-room', known: 'seen now' }
  if (hostFreeBytes < hostNeededBytes) {
    return {
      ...base,
      state: 'blocks',
      title: 'This host has too little room for the target’s bytes.',
      why: `It needs ${formatSize(hostNeededBytes)} and has ${formatSize(hostFreeBytes)}.`,
      how: 'Free some room on the disk that holds the bench’s data folder, then look again.',
      action: { id: 'look-again', label: 'Look again' },
    }
  }
  return {
    ...base,
    state: 'settled',
    title: 'Room on this host',
    why: `${formatSize(hostNeededBytes)} needed, ${formatSize(hostFreeBytes)} free`,
  }
}
