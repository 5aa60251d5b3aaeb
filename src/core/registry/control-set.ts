import type { Hive } from './hive'

/** The set of a system's own settings that is in use, by the name of its key. */
export async function controlSetIn(hive: Hive): Promise<string> {
  const select = await hive.key('Select')
  const current = (select && (await hive.number(select, 'Current'))) ?? 1
  return `ControlSet${String(current).padStart(3, '0')}`
}
