import type { BlockDevice } from '../block/device'
import { sliceOf } from '../boot/start'
import { letterDevice, type StoreDevice } from '../boot/store'
import { CoreError } from '../errors'
import { openFileSystem } from '../filesystem'
import { type MovedVolume, sameStoreDevice } from '../repair/moved'
import { openSystemHive } from '../repair/places'
import { readScheme } from '../scheme'
import { counted } from '../words'
import type { ProofCheck } from './compare'

const LETTER = /^\\DosDevices\\([A-Z]:)$/i

/**
 * Whether a system beside its old drive calls its volumes as before: each drive letter that it keeps for a volume which
 * came along names that on the new drive, and none the old one. `started`: GUID of the system's partition. Nothing is
 * written.
 */
export async function compareLetters(
  target: BlockDevice,
  moved: readonly MovedVolume[],
  started: string | undefined,
): Promise<ProofCheck> {
  const check = { id: 'letters', title: 'Drive letters name the new drive' }
  try {
    const kept = await lettersOf(target, moved, started)
    if (!kept) return { ...check, passed: false, found: 'the system’s settings cannot be read from here' }
    const are = (letters: typeof kept, end: 'from' | 'to') =>
      letters.filter(({ device }) => moved.some((m) => sameStoreDevice(m[end], device))).map(({ letter }) => letter)
    const [here, old] = [are(kept, 'to'), are(kept, 'from')]
    return {
      ...check,
      passed: old.length === 0 && here.includes('C:'),
      found:
        old.length > 0
          ? `${old.join(', ')} ${old.length === 1 ? 'names' : 'name'} the old drive`
          : here.includes('C:')
            ? `${here.join(', ')}, ${counted(here.length, 'letter')} of ${counted(here.length, 'volume')} that came along`
            : 'C: names no volume that came along',
    }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    return { ...check, passed: false, found: error.message }
  }
}

async function lettersOf(target: BlockDevice, moved: readonly MovedVolume[], started: string | undefined) {
  const reading = await readScheme(target)
  const partition = reading?.partitions.find((p) => p.guid === started)
  const volume = partition && (await openFileSystem(sliceOf(target, partition)))
  if (volume?.depth !== 'files') return undefined
  const { hive } = await openSystemHive({ volume })
  const mounted = await hive.key('MountedDevices')
  const disks = new Map<string, string>()
  for (const end of moved.flatMap(({ from, to }) => [from, to]))
    if (end.scheme === 'gpt') disks.set(end.partitionGuid.toLowerCase(), end.diskGuid)
  const kept: { letter: string; device: StoreDevice }[] = []
  for (const { name, data } of mounted ? await hive.values(mounted) : []) {
    const letter = LETTER.exec(name)?.[1].toUpperCase()
    const device = letter && letterDevice(data, (guid) => disks.get(guid.toLowerCase()) ?? '')
    if (letter && device) kept.push({ letter, device })
  }
  return kept.sort((a, b) => (a.letter < b.letter ? -1 : 1))
}
