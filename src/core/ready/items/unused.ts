import type { ReadyFacts, ReadyItem, ReadyKind } from '../port'

/** A drive of this computer that is copied or written is used by nothing else meanwhile, and is the one that is meant. */
export const unused: ReadyKind = ({ seen }) => seen.map(itemFor)

function itemFor({ id, name, path, uses, serialOf, hasTwin, isWritten }: ReadyFacts['seen'][number]): ReadyItem {
  const base = { id: `unused-${id}`, known: 'seen now' }
  if (hasTwin && isWritten)
    return {
      ...base,
      state: 'blocks',
      title: `Another drive says that it is the ${name}, with the same serial.`,
      why: 'Which of the two is written cannot be told by its label.',
      how: 'Unplug the one that is not meant. Some docks give every drive the same serial; another port or dock tells them apart.',
    }
  if (uses.length > 0)
    return {
      ...base,
      state: 'blocks',
      title: `The ${name} is in use here: ${uses.join(', ')}.`,
      why: isWritten
        ? 'What is written to it would be mixed with what others write.'
        : 'Files would change while they are copied.',
      how: 'Unmount it, or end what uses it. A desktop that mounts drives by itself has a setting for that.',
    }

  return {
    ...base,
    state: 'settled',
    title: `Nothing else uses the ${name}, ${path}`,
    why: SERIAL[serialOf],
  }
}

const SERIAL = {
  drive: 'its serial is its own',
  bridge: 'its serial is that of the bridge it hangs at',
  sectors: 'it tells no serial, so its plate is its number of sectors',
}
