import { formatDuration } from '../../bytes/size'
import { LINKS } from '../../things/links'
import type { ReadyKind } from '../port'

/** What a drive hangs at decides how long it takes. */
export const adapters: ReadyKind = ({ adapters: used }) =>
  used.map(({ name, link, seconds }) => {
    const slow = link === 'usb-2'
    return {
      id: `adapter-${name}`,
      state: 'settled',
      known: 'seen now',
      title: slow ? `The ${name} is slow: ${LINKS[link].name}` : `The ${name} is at hand, ${LINKS[link].name}`,
      why: slow ? `over it this takes about ${formatDuration(seconds)}` : 'a drive of this copy is connected to it',
    }
  })
