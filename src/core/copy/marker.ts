import { type BlockDevice, readBytes } from '../block/device'
import { asciiToString } from '../bytes/struct'

const MARK = 'IMBARCO UNFINISHED COPY'

/**
 * The first sector of a drive whose copy has not ended. It carries no table signature, so no firmware
 * starts from it; `note` says which move wrote it.
 */
export function unfinishedMarker(sectorSize: number, note: string): Uint8Array {
  const bytes = new Uint8Array(sectorSize)
  const text = `${MARK}\r\n${note.replace(/[^\x20-\x7e]/g, '?')}`.slice(0, 440)
  for (let i = 0; i < text.length; i++) bytes[i] = text.charCodeAt(i)
  return bytes
}

/** The note of an unfinished copy, or undefined when the drive carries no such mark. */
export async function readMarker(device: BlockDevice): Promise<string | undefined> {
  const text = asciiToString(await readBytes(device, 0, 440))
  if (!text.startsWith(MARK)) return undefined
  return text.slice(MARK.length).replaceAll('\0', '').trim()
}
