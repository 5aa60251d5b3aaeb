import { type BlockDevice, type Extent, readBytes } from '../../block/device'
import { hasText, viewOf } from '../../bytes/struct'
import { BadStructure, CoreError } from '../../errors'
import type { Finding } from '../../findings'
import { bitRunsOf } from '../bitmap'
import type { FileSystem, FileSystemDriver } from '../port'
import { unlisted } from '../sealed/sealed'
import { utf8Text } from '../text'
import {
  CHUNK,
  CONTAINER,
  JUMPSTART,
  MAPPING,
  NODE,
  NODE_FIXED,
  NODE_LEAF,
  NODE_ROOT,
  OBJECT,
  ROOT_FOOTER,
  SPACEMAN,
  TYPE_CHECKPOINT_MAP,
  TYPE_MASK,
  TYPE_SPACEMAN,
  VOLUME,
  VOLUME_UNENCRYPTED,
} from './layout'

/** An APFS container behind the file-system port: identity, volumes, used blocks. Its files are not read. */
export const apfs: FileSystemDriver = {
  kind: 'apfs',
  name: 'APFS',
  async recognise(device) {
    if (device.size < 512 * 1024) return false
    return hasText(await readBytes(device, 0, 512), 32, 'NXSB')
  },
  open: openApfs,
}

/** Checkpoints of a healthy container take a few megabytes. */
const MAX_CHECKPOINT_BYTES = 64 * 1024 * 1024
/** The space manager of a container of many terabytes is far smaller. */
const MAX_SPACEMAN_BYTES = 16 * 1024 * 1024

type Container = ReturnType<typeof CONTAINER.read>

async function openApfs(device: BlockDevice): Promise<FileSystem> {
  const first = CONTAINER.read(await readBytes(device, 0, 4096))
  const { blockSize } = first
  const bad = (why: string) => new BadStructure('APFS container', 0, why)
  if (blockSize < 4096 || blockSize > 65536 || !Number.isInteger(Math.log2(blockSize))) {
    throw bad(`it gives blocks of ${blockSize} bytes`)
  }
  if (first.blockCount === 0 || first.blockCount * blockSize > device.size)
    throw bad(`it claims ${first.blockCount} blocks`)
  const block = async (address: number): Promise<Uint8Array> => {
    if (address <= 0 || address >= first.blockCount) throw bad(`it points to block ${address} outside of it`)
    return readBytes(device, address * blockSize, blockSize)
  }
  const { container, descriptors } = await latest(first, block)
  const volumes = await readVolumes(container, block).catch((error: unknown) => {
    if (!(error instanceof CoreError)) throw error
    return undefined
  })
  const findings: Finding[] = []
  if (!volumes) {
    findings.push({
      severity: 'caution',
      code: 'apfs.volumes-unread',
      sentence: 'The names of the volumes in this container cannot be read.',
    })
  }
  const sealed = volumes?.filter((v) => v.encrypted) ?? []
  if (sealed.length > 0) {
    findings.push({
      severity: 'caution',
      code: 'apfs.encrypted',
      sentence: `${sealed.length === 1 ? `The volume ${sealed[0].name} is` : `${sealed.length} volumes of the container are`} encrypted.`,
    })
  }
  const map = await readSpaceManager(descriptors, container, block).catch((error: unknown) => {
    if (!(error instanceof CoreError)) throw error
    return undefined
  })
  if (!map) {
    findings.push({
      severity: 'caution',
      code: 'volume.every-sector',
      sentence: 'Which blocks of this container are used cannot be read. Only a copy of every sector of it is honest.',
    })
  }
  const totalBytes = container.blockCount * blockSize
  return {
    kind: 'apfs',
    name: 'APFS',
    label: volumes?.map((v) => v.name).join(', ') ?? '',
    serial: container.uuid,
    clusterSize: blockSize,
    totalBytes,
    // A container is always as of its last checkpoint; there is no flag for one that was open.
    state: 'clean',
    depth: map ? 'map' : 'sealed',
    encrypted: sealed.length > 0,
    findings,
    async startLoader() {
      if (container.efiJumpstart === 0) return undefined
      const record = JUMPSTART.read(await block(container.efiJumpstart))
      if (record.magic !== 'RDSJ') throw bad(`block ${container.efiJumpstart} is no record of a loader`)
      return { what: `its own driver in block ${container.efiJumpstart}`, sizeBytes: record.fileBytes }
    },
    async *usedExtents(): AsyncGenerator<Extent> {
      if (!map) {
        yield { offset: 0, length: device.size }
        return
      }
      for await (const run of map()) yield { offset: run.offset * blockSize, length: run.length * blockSize }
      if (device.size > totalBytes) yield { offset: totalBytes, length: device.size - totalBytes }
    },
    ...unlisted('The files of an APFS volume are not read here.'),
  }
}

/** Fletcher's checksum as the reference gives it, over all but the checksum itself. */
export function checksumOf(bytes: Uint8Array): bigint {
  const view = viewOf(bytes)
  const modulus = 0xffffffffn
  let low = 0
  let high = 0
  for (let at = 8; at + 4 <= bytes.length; at += 4) {
    low = (low + view.getUint32(at, true)) % 0xffffffff
    high = (high + low) % 0xffffffff
  }
  const first = modulus - ((BigInt(low) + BigInt(high)) % modulus)
  const second = modulus - ((BigInt(low) + first) % modulus)
  return (second << 32n) | first
}

/** The newest container superblock of the checkpoint area whose checksum holds, with the blocks of that area. */
async function latest(first: Container, block: (address: number) => Promise<Uint8Array>) {
  const count = first.descriptorBlocks
  // The top bit says that the area is a tree, which no container on a single drive uses.
  const base = Number(first.descriptorBase)
  const descriptors: Uint8Array[] = []
  let container: Container | undefined
  if (count === 0 || count * first.blockSize > MAX_CHECKPOINT_BYTES || !Number.isSafeInteger(base)) {
    throw new BadStructure('APFS container', 0, `it claims ${count} blocks of checkpoints`)
  }
  for (let i = 0; i < count; i++) {
    const bytes = await block(base + i)
    descriptors.push(bytes)
    const object = OBJECT.read(bytes)
    if ((object.type & TYPE_MASK) !== 1 || object.checksum !== checksumOf(bytes)) continue
    const candidate = CONTAINER.read(bytes)
    if (candidate.magic === 'NXSB' && (!container || candidate.xid > container.xid)) container = candidate
  }
  if (!container || container.blockSize !== first.blockSize || container.blockCount !== first.blockCount) {
    throw new BadStructure('APFS container', base * first.blockSize, 'no checkpoint of it holds')
  }
  return { container, descriptors }
}

async function readVolumes(container: Container, block: (address: number) => Promise<Uint8Array>) {
  const oids = viewOf(container.volumeOids)
  const map = await block(container.omapOid)
  const rootAddress = Number(viewOf(map).getBigUint64(48, true))
  const volumes: { name: string; encrypted: boolean; role: number }[] = []
  for (let i = 0; i < Math.min(100, container.volumeCount); i++) {
    const oid = oids.getBigUint64(i * 8, true)
    if (oid === 0n) continue
    const address = await resolve(oid, rootAddress, block)
    const volume = VOLUME.read(await block(address))
    if (volume.magic !== 'APSB') throw new BadStructure('APFS volume', address, 'it does not carry its mark')
    const encrypted = (volume.flags & VOLUME_UNENCRYPTED) === 0n
    volumes.push({ name: utf8Text(volume.name), encrypted, role: volume.role })
  }
  return volumes
}

/** The block that holds the newest version of a virtual object, by the object map's tree. */
async function resolve(oid: bigint, root: number, block: (address: number) => Promise<Uint8Array>): Promise<number> {
  let address = root
  for (let depth = 0; depth < 16; depth++) {
    const bytes = await block(address)
    const { flags, count, tableOffset, tableLength } = NODE.read(bytes)
    const bad = (why: string) => new BadStructure('APFS object map', address, why)
    if ((flags & NODE_FIXED) === 0 || count * 4 > tableLength) throw bad('a node contradicts itself')
    const table = NODE.size + tableOffset
    const keys = table + tableLength
    const values = bytes.length - (flags & NODE_ROOT ? ROOT_FOOTER : 0)
    const view = viewOf(bytes)
    let found: number | undefined
    for (let i = 0; i < count; i++) {
      if (table + i * 4 + 4 > bytes.length) throw bad('its table lies outside')
      const keyAt = keys + view.getUint16(table + i * 4, true)
      const valueAt = values - view.getUint16(table + i * 4 + 2, true)
      if (keyAt + 16 > bytes.length || valueAt < 0 || valueAt + 8 > bytes.length) throw bad('an entry lies outside')
      const key = view.getBigUint64(keyAt, true)
      if (key > oid || (flags & NODE_LEAF && key !== oid)) continue
      // A leaf's value: flags, size, address. An index node's value is the child's address.
      const addressAt = flags & NODE_LEAF ? valueAt + 8 : valueAt
      if (addressAt + 8 > bytes.length) throw bad('an entry lies outside')
      found = Number(view.getBigUint64(addressAt, true))
    }
    if (found === undefined || !Number.isSafeInteger(found)) throw bad(`it does not know object ${oid}`)
    if (flags & NODE_LEAF) return found
    address = found
  }
  throw new BadStructure('APFS object map', address, 'it is deeper than can be')
}

/** A reader of the used blocks, by the space manager's chunks. */
async function readSpaceManager(
  descriptors: readonly Uint8Array[],
  container: Container,
  block: (address: number) => Promise<Uint8Array>,
) {
  const { address, size } = spacemanPlace(descriptors, container)
  const bytes = new Uint8Array(size)
  for (let at = 0; at < size; at += container.blockSize) {
    bytes.set(await block(address + at / container.blockSize), at)
  }
  const bad = (why: string) => new BadStructure('APFS space manager', address, why)
  if ((OBJECT.read(bytes).type & TYPE_MASK) !== TYPE_SPACEMAN) throw bad('it is something else')
  const manager = SPACEMAN.read(bytes)
  const { blocksPerChunk, cibCount, cabCount, addressOffset, chunkCount } = manager
  if (manager.blockCount !== container.blockCount || blocksPerChunk === 0 || blocksPerChunk > container.blockSize * 8) {
    throw bad('it was made for another container')
  }
  if (cibCount > 1_000_000 || chunkCount > 100_000_000) throw bad(`it claims ${cibCount} tables`)
  // Few tables stand in the manager's own block; for large containers there is a step between.
  const slots = cabCount > 0 ? cabCount : cibCount
  if (addressOffset + slots * 8 > bytes.length) throw bad('its list of tables lies outside')
  const listed = (from: Uint8Array, at: number, count: number) =>
    Array.from({ length: count }, (_, i) => Number(viewOf(from).getBigUint64(at + i * 8, true)))
  let tables = listed(bytes, addressOffset, slots)
  if (cabCount > 0) {
    const lists: number[] = []
    for (const cab of tables) {
      const list = await block(cab)
      const count = viewOf(list).getUint32(36, true)
      if (40 + count * 8 > list.length) throw bad('a list of tables is longer than its block')
      lists.push(...listed(list, 40, count))
    }
    tables = lists
  }
  return async function* (): AsyncGenerator<Extent> {
    for (const table of tables) {
      const chunkTable = await block(table)
      const count = viewOf(chunkTable).getUint32(36, true)
      if (40 + count * CHUNK.size > chunkTable.length) throw bad('a table of chunks is longer than its block')
      for (let i = 0; i < count; i++) {
        const chunk = CHUNK.read(chunkTable, 40 + i * CHUNK.size)
        if (chunk.firstBlock + chunk.blockCount > container.blockCount || chunk.blockCount > blocksPerChunk) {
          throw bad(`a chunk of ${chunk.blockCount} blocks from ${chunk.firstBlock} lies outside`)
        }
        // A chunk without a bitmap is wholly free.
        if (chunk.bitmapBlock === 0) continue
        for (const run of bitRunsOf(await block(chunk.bitmapBlock), chunk.blockCount)) {
          yield { offset: chunk.firstBlock + run.offset, length: run.length }
        }
      }
    }
  }
}

/** The space manager is kept in memory by the system; a checkpoint map tells where it was last put down. */
function spacemanPlace(descriptors: readonly Uint8Array[], container: Container): { address: number; size: number } {
  for (let i = 0; i < container.descriptorLength; i++) {
    const bytes = descriptors[(container.descriptorIndex + i) % descriptors.length]
    if ((OBJECT.read(bytes).type & TYPE_MASK) !== TYPE_CHECKPOINT_MAP) continue
    const count = viewOf(bytes).getUint32(36, true)
    for (let m = 0; m < count && 40 + (m + 1) * MAPPING.size <= bytes.length; m++) {
      const mapping = MAPPING.read(bytes, 40 + m * MAPPING.size)
      if (mapping.oid !== container.spacemanOid) continue
      const size = Math.max(1, Math.ceil(mapping.size / container.blockSize)) * container.blockSize
      if (size <= MAX_SPACEMAN_BYTES) return { address: mapping.address, size }
    }
  }
  throw new BadStructure('APFS container', 0, 'no checkpoint tells where its space manager is')
}
