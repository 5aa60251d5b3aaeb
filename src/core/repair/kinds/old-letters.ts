import { LETTER_C, letterBytes, letterDevice, type StoreDevice } from '../../boot/store'
import { storeDeviceOf } from '../../boot/start-windows'
import { sameBytes } from '../../bytes/same'
import { CoreError } from '../../errors'
import { HiveEditor } from '../../registry/edit'
import type { Hive, HiveKey } from '../../registry/hive'
import { followMoves } from '../moved'
import { openSystemHive, patchesOfFile, SYSTEM_HIVE_PATH, systemPlace } from '../places'
import type { RepairKind, RepairSubject } from '../port'
import { counted } from '../../words'

/**
 * A system goes on keeping letters for volumes by their old disk and place, and for drives of the computer it came from.
 * Those of volumes that came along are pointed at them; only what is truly absent is let go.
 */
export const oldLetters: RepairKind = {
  name: 'old-letters',
  title: 'Settle the letters of other volumes',
  async plan(subject) {
    const place = await systemPlace(subject)
    const { bytes, hive } = await openSystemHive(place)
    const mounted = await hive.key('MountedDevices')
    if (!mounted) throw new CoreError('The system keeps no drive letters.')
    const kept = await keptNames(hive, mounted, subject)
    const others = kept.filter(({ name }) => name.toUpperCase() !== LETTER_C.toUpperCase())
    const pointed = others.filter(({ to }) => to !== undefined)
    const lettered = others.filter(isLetter)
    const strays = lettered.filter(({ to, here, ours }) => to === undefined && !here && !ours)
    const unsure = lettered.filter(({ to, here, ours }) => to === undefined && !here && ours)
    const know = unsure.map(
      ({ name }) =>
        `${name.slice(-2)} names a place of this disk at which no partition begins. Which volume it meant is not known here, so it was left.`,
    )
    if (pointed.length === 0 && strays.length === 0) return { changes: [], patches: [], know }
    const editor = await HiveEditor.open(bytes)
    const key = (await editor.key('MountedDevices'))!
    for (const { name } of strays) await editor.remove(key, name)
    for (const { name, to } of pointed) await editor.set(key, name, letterBytes(to!))
    return {
      changes: [
        ...(pointed.length > 0
          ? [
              `In ${SYSTEM_HIVE_PATH}, MountedDevices: ${namesOf(pointed)} ${pointed.length === 1 ? 'names its volume' : 'name their volumes'} at the new place.`,
            ]
          : []),
        ...(strays.length > 0
          ? [
              `In ${SYSTEM_HIVE_PATH}, MountedDevices lets go of ${namesOf(strays)}, as no volume that came along has ${strays.length === 1 ? 'it' : 'them'}.`,
            ]
          : []),
      ],
      know,
      patches: await patchesOfFile(subject, place, SYSTEM_HIVE_PATH, bytes, editor.done(subject.time)),
      files: [{ path: SYSTEM_HIVE_PATH, partition: place.partition.number }],
    }
  },
}

/** A letter, or a name by which folders know a volume that is mounted in them, that leads to a partition. */
interface KeptName {
  readonly name: string
  /** Where the volume it means is now; undefined where it stays as it is. */
  readonly to: StoreDevice | undefined
  /** It names a partition of this disk as it is. */
  readonly here: boolean
  /** It names this disk, whatever the place. */
  readonly ours: boolean
}

/** Letters, and the names that mount points use. */
const NAMES = /^\\(DosDevices\\[A-Z]:|\?\?\\Volume\{[\da-f-]{36}\})$/i

const isLetter = ({ name }: Pick<KeptName, 'name'>) => name.endsWith(':')

/** Names as people know them: letters, and how many that only mount points use. */
export function namesOf(kept: readonly Pick<KeptName, 'name'>[]): string {
  const letters = kept.filter(isLetter)
  const others = kept.length - letters.length
  return [
    ...letters.map(({ name }) => name.slice(-2)),
    ...(others > 0 ? [counted(others, 'name of a mount point', 'names of mount points')] : []),
  ].join(', ')
}

/** The names that lead to partitions; anything else, such as an optical drive, is kept in another way and left out. */
export async function keptNames(
  hive: Hive,
  mounted: HiveKey,
  { candidate, moved = [] }: Pick<RepairSubject, 'candidate' | 'moved'>,
): Promise<KeptName[]> {
  const present = candidate.reading.partitions.map((p) => storeDeviceOf(candidate, p))
  const known = [...moved.flatMap((m) => [m.from, m.to]), ...present]
  const diskOf = (guid: string) =>
    known.find((d) => d.scheme === 'gpt' && d.partitionGuid.toLowerCase() === guid.toLowerCase())
  const names = (await hive.values(mounted)).flatMap(({ name, data }) => {
    if (!NAMES.test(name)) return []
    const device = letterDevice(data, (guid) => (diskOf(guid) as { diskGuid: string } | undefined)?.diskGuid ?? '')
    return device ? [{ name, device }] : []
  })
  // A letter of a GPT names the partition alone, so the disk does not matter to whether it is here.
  const isHere = (device: StoreDevice) => present.some((p) => sameBytes(letterBytes(p), letterBytes(device)))
  const follow = followMoves(
    names.map(({ device }) => device),
    moved,
    isHere,
  )
  return names.map(({ name, device }) => ({
    name,
    to: follow(device),
    here: isHere(device),
    ours: present.some((p) => p.scheme === 'mbr' && device.scheme === 'mbr' && p.signature === device.signature),
  }))
}
