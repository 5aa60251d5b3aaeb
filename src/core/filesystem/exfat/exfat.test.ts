import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../../block/memory'
import { MIB } from '../../bytes/size'
import { viewOf } from '../../bytes/struct'
import { collect, pattern } from '../../testing'
import { openFileSystem } from '..'
import { BITMAP_ENTRY, EXFAT_BOOT, FILE_ENTRY, STREAM_ENTRY } from './layout'

const CLUSTER = 4096
const HEAP = 64 * 1024
const FAT = 32 * 1024

/**
 * A volume by hand: bitmap in cluster 2, root in 3 and 9, a file in a chain (4, 6), one that is contiguous (7, 8)
 * and shorter than its valid length says, a folder in 5.
 */
async function makeVolume(flags = 0): Promise<MemoryDevice> {
  const device = new MemoryDevice(8 * MIB)
  const boot = new Uint8Array(512)
  EXFAT_BOOT.write(boot, {
    name: 'EXFAT   ',
    volumeSectors: (8 * MIB) / 512,
    fatOffset: FAT / 512,
    fatSectors: 32,
    heapOffset: HEAP / 512,
    clusterCount: 1000,
    rootCluster: 3,
    serial: 0x6a1f20c4,
    flags,
    sectorShift: 9,
    clusterShift: 3,
    fatCount: 1,
    signature: 0xaa55,
  })
  await device.write(0, boot)
  const fat = new Uint8Array(512)
  const chain = { 2: 0xffffffff, 3: 9, 9: 0xffffffff, 4: 6, 6: 0xffffffff, 5: 0xffffffff }
  for (const [cluster, next] of Object.entries(chain)) viewOf(fat).setUint32(Number(cluster) * 4, next, true)
  await device.write(FAT, fat)
  const put = (cluster: number, bytes: Uint8Array) => device.write(HEAP + (cluster - 2) * CLUSTER, bytes)
  await put(2, Uint8Array.from([0xff, ...new Array(511).fill(0)]))
  const root = new Uint8Array(2 * CLUSTER)
  BITMAP_ENTRY.write(root, { firstCluster: 2, length: 125 })
  root[0] = 0x81
  root.set([0x83, 3, 0x54, 0, 0x69, 0, 0x64, 0], 32)
  let at = 64
  const entry = (
    to: Uint8Array,
    place: number,
    name: string,
    values: { attributes?: number; flags: number; firstCluster: number; length: number; validLength?: number },
  ) => {
    const names = Math.ceil(name.length / 15)
    FILE_ENTRY.write(to, { secondaryCount: 1 + names, attributes: values.attributes ?? 0x20 }, place)
    to[place] = 0x85
    STREAM_ENTRY.write(
      to,
      { ...values, nameLength: name.length, validLength: values.validLength ?? values.length },
      place + 32,
    )
    to[place + 32] = 0xc0
    for (let i = 0; i < names; i++) {
      const part = place + 64 + i * 32
      to[part] = 0xc1
      for (let c = 0; c < 15; c++) viewOf(to).setUint16(part + 2 + c * 2, name.charCodeAt(i * 15 + c) || 0, true)
    }
    return place + 64 + names * 32
  }
  at = entry(root, at, 'spread over two clusters.bin', { flags: 1, firstCluster: 4, length: 6000 })
  at = entry(root, at, 'side by side.bin', { flags: 3, firstCluster: 7, length: 8000, validLength: 5000 })
  // Entries go on in the root's second cluster.
  root.fill(0x05, at, CLUSTER)
  for (let gap = at; gap < CLUSTER; gap += 32) root[gap] = 0x05
  entry(root, CLUSTER, 'Folder', { attributes: 0x10, flags: 1, firstCluster: 5, length: CLUSTER })
  await put(3, root.subarray(0, CLUSTER))
  await put(9, root.subarray(CLUSTER))
  const folder = new Uint8Array(CLUSTER)
  entry(folder, 0, 'inner.txt', { flags: 3, firstCluster: 8, length: 10 })
  await put(5, folder)
  const first = pattern(CLUSTER * 2, 1)
  await put(4, first.subarray(0, CLUSTER))
  await put(6, first.subarray(CLUSTER))
  await put(7, pattern(CLUSTER, 2))
  await put(8, pattern(CLUSTER, 3))
  return device
}

describe('an exFAT volume', () => {
  it('lists folders and reads files, chained, side by side, and zeros behind their valid length', async () => {
    const volume = (await openFileSystem(await makeVolume()))!
    expect([volume.label, volume.serial, volume.state]).toEqual(['Tid', '6A1F-20C4', 'clean'])
    expect((await volume.list('/')).map((e) => [e.name, e.kind, e.sizeBytes])).toEqual([
      ['spread over two clusters.bin', 'file', 6000],
      ['side by side.bin', 'file', 8000],
      ['Folder', 'directory', 0],
    ])
    expect(await volume.readFile('/SPREAD over two clusters.bin')).toEqual(pattern(CLUSTER * 2, 1).slice(0, 6000))
    const side = await volume.readFile('/side by side.bin')
    expect(side.slice(0, CLUSTER)).toEqual(pattern(CLUSTER, 2))
    expect(side.slice(CLUSTER, 5000)).toEqual(pattern(CLUSTER, 3).slice(0, 5000 - CLUSTER))
    expect(side.slice(5000).every((b) => b === 0)).toBe(true)
    expect(await volume.readFile('/Folder/inner.txt')).toEqual(pattern(CLUSTER, 3).slice(0, 10))
    expect(await volume.fileExtents!('/spread over two clusters.bin')).toEqual([
      { offset: HEAP + 2 * CLUSTER, length: CLUSTER },
      { offset: HEAP + 4 * CLUSTER, length: CLUSTER },
    ])
    await expect(volume.readFile('/Folder')).rejects.toThrow(/There is no/)
  })

  it('counts what its bitmap names, and what stands in front and behind', async () => {
    const volume = (await openFileSystem(await makeVolume()))!
    const end = HEAP + 1000 * CLUSTER
    expect(await collect(volume.usedExtents())).toEqual([
      { offset: 0, length: HEAP },
      { offset: HEAP, length: 8 * CLUSTER },
      { offset: end, length: 8 * MIB - end },
    ])
  })

  it('that was in use says so', async () => {
    expect((await openFileSystem(await makeVolume(2)))?.state).toBe('dirty')
  })
})
