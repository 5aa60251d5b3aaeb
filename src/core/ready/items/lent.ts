import { formatRate } from '../../bytes/size'
import type { ReadyKind } from '../port'

/** A drive that another bench lends is read or written over the network, as long as it is lent. */
export const lent: ReadyKind = ({ lent: drives }) =>
  drives.map(({ name, bench, bytesPerSecond }) => ({
    id: `lent-${name}`,
    state: 'settled',
    known: 'seen now',
    title: `${bench} lends the ${name}`,
    why: `${bytesPerSecond === null ? '' : `the connection carries ${formatRate(bytesPerSecond)}; `}where it is lost, the copy waits for it`,
  }))
