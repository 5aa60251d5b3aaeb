import { readBytes } from '../block/device'
import { concatBytes } from '../bytes/concat'
import { groupDigits } from '../bytes/size'
import { asciiToString, viewOf } from '../bytes/struct'
import { shortDigest, toHex } from '../digest'
import type { FileSystem } from '../filesystem'
import { MBR_SECTOR } from '../scheme/mbr-layout'
import type { TablePartition } from '../scheme/types'
import { readBootCode } from '../survey/boot-code'
import { BIOS_LOADER_PATH, BIOS_STORE_PATH, HIDDEN_SECTORS_OFFSET } from '../survey/known-systems'
import { BootFailure } from './chain'
import {
  type Candidate,
  checkFile,
  expectSystem,
  identityWords,
  sliceOf,
  type Start,
  type Started,
  volumeOn,
} from './start'
import { followWindows } from './start-windows'

/** From the first drive's first sector to the system, by BIOS. */
export async function followBios(start: Start): Promise<Started> {
  const { chain, reference, digest } = start
  const [candidate, ...others] = start.candidates
  const { drive, reading } = candidate
  chain.pass(
    'BIOS, from its first drive',
    `${drive.name} in ${drive.slot}${others.map((o) => `; ${o.drive.slot} comes after it`).join('')}`,
  )
  if (reading.scheme !== 'mbr') {
    throw new BootFailure(
      `${drive.name} has a GPT`,
      `${drive.slot}: the MBR in its first sector only protects it`,
      'A BIOS hands over to the first sector and looks for an active partition, which a GPT has none of.',
    )
  }
  const { mbr } = reading
  chain.pass(`MBR, ${mbr.partitions.length} partitions`, `Sector 0, ${identityWords(reading)}, its last bytes 55 AA`)
  const { bootCode } = MBR_SECTOR.read(await readBytes(drive.device, 0, 512))
  if (!mbr.hasBootCode) {
    throw new BootFailure(
      'there is none',
      'Sector 0, bytes 0 to 439 are zeros',
      'The BIOS jumps to the first byte of the drive, and nothing is there to go on.',
      ['start-code'],
    )
  }
  const used = bootCode.length - [...bootCode].reverse().findIndex((byte) => byte !== 0)
  const code = await readBootCode(drive.device, reading.partitions)
  const found = toHex(digest(concatBytes([code.first, code.gap])))
  const where = `Sector 0, ${used} of 440 bytes${code.gap.length > 0 ? `; ${groupDigits(code.gap.length)} bytes of more code behind it` : '; the sectors behind it are empty'}, SHA-256 ${shortDigest(found)}`
  const wantedCode = reference?.startCodeDigest
  if (wantedCode && wantedCode !== found) {
    throw new BootFailure(
      'it is not the code of the source',
      `${where}; source ${shortDigest(wantedCode)}`,
      'The first sector and the ones behind it belong together; what is there was not what started the old drive.',
      ['start-code'],
    )
  }
  chain.pass(
    wantedCode ? 'same bytes as the source' : 'code in the first sector',
    wantedCode ? `${where}, equal` : where,
  )
  if (loadsWhatIsBehind(bootCode, code.gap)) {
    expectSystem(start, undefined, where)
    chain.restUnproved(
      'not followed further',
      `${where}; the code does not ask for an active partition`,
      'The first sector goes on with the sectors behind it. That loader is another one, and what it does next is its own.',
    )
    return { driveId: drive.driveId }
  }
  const { partition, volume } = await activePartition(start, candidate)
  if ((await volume.stat(BIOS_LOADER_PATH))?.kind !== 'file' && !reference?.systemLoaderPath) {
    expectSystem(start, undefined, `No ${BIOS_LOADER_PATH} on partition ${partition.number}`)
    chain.restUnproved(
      'not followed further',
      `No ${BIOS_LOADER_PATH} on partition ${partition.number}`,
      'The code in the first sectors belongs to another loader; what that does next is its own.',
    )
    return { driveId: drive.driveId }
  }
  const wanted = reference?.loaders.find((l) => l.path.toUpperCase() === BIOS_LOADER_PATH.toUpperCase())?.digest
  const { equal, evidence } = await checkFile(volume, BIOS_LOADER_PATH, wanted, digest, {
    found: 'the loader file is missing',
    why: 'The volume’s first sectors look for it by its name and find nothing to hand over to.',
  })
  chain.pass(equal ? `same bytes as ${reference?.ownLoaders ? 'before' : 'the source'}` : 'found', evidence)
  return followWindows(start, candidate, volume, BIOS_STORE_PATH)
}

/**
 * Whether the code in the first sector hands over to the sectors behind it and not to an active partition. Code that
 * looks for one says so to people when it finds none; other loaders do not have that text.
 */
function loadsWhatIsBehind(bootCode: Uint8Array, gap: Uint8Array): boolean {
  return gap.length > 0 && !/partition table|operating system/i.test(asciiToString(bootCode))
}

async function activePartition(
  { chain }: Start,
  { drive, reading }: Candidate,
): Promise<{ partition: TablePartition; volume: FileSystem }> {
  const { device } = drive
  const active = reading.partitions.filter((p) => p.mbr?.active && p.mbr.kind === 'primary')
  if (active.length !== 1) {
    throw new BootFailure(
      active.length === 0 ? 'none is active' : `${active.length} are active`,
      `Sector 0: ${active.length === 0 ? 'no record' : `records ${active.map((p) => p.number).join(', ')}`} with the mark 80`,
      'The code in the first sector goes on with the one partition that is marked active.',
      ['active-partition'],
    )
  }
  const [partition] = active
  const volume = await volumeOn(device, partition)
  const head = await readBytes(sliceOf(device, partition), 0, 512)
  const hidden = viewOf(head).getUint32(HIDDEN_SECTORS_OFFSET, true)
  const place = `Partition ${partition.number}, sector ${groupDigits(partition.firstLba)}`
  if (viewOf(head).getUint16(510, true) !== 0xaa55) {
    throw new BootFailure(
      'its first sector is no start-up sector',
      `${place}: its last bytes are not 55 AA`,
      'The code in the first sector checks for them before it hands over.',
    )
  }
  if (hidden !== partition.firstLba) {
    throw new BootFailure(
      'its first sector counts from another place',
      `${place}, byte ${HIDDEN_SECTORS_OFFSET}: expected ${groupDigits(partition.firstLba)}, found ${groupDigits(hidden)}`,
      'The start-up sector adds this count to every sector it reads. The partition was moved and the count was not.',
      ['hidden-sectors'],
    )
  }
  chain.pass(
    `${volume.label || 'no name'}, ${volume.name}, active, ${volume.state}`,
    `${place}; its count of sectors in front is ${groupDigits(hidden)}, as it should be`,
  )
  return { partition, volume }
}
