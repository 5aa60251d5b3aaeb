import { execFileSync, spawnSync } from 'node:child_process'
import { copyFileSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { SparseFileDevice } from '@/bench/sparse-file'
import type { BlockDevice } from '@/core/block/device'
import { type MemoryDevice } from '@/core/block/memory'
import { planImage } from '@/core/copy/plan-whole'
import { makeSystemDisk } from '@/core/testing-disk'
import { type TargetKind, TARGETS } from '@/core/image'
import { patchesOf } from '@/core/repair/written'
import { recordText } from '@/core/repair/apply'
import { VolumeFolder } from '@/host/volume-folder'
import { writeImage, writeImageInto } from '@/host/write-image'
import { diskDigest, digestOfFile, sparseFile } from './support/image-files'
import { checkFat, extractDigests, sumOf } from './support/independent'
import { checkNtfsFile } from './support/ntfs-checker'
import { makeNtfs, withNtfs } from './support/worn-ntfs'

// Images that are made as files of a volume of another drive, whose own checkers and readers judge it.

const MIB = 1024 * 1024
const env = { ...process.env, PATH: `${process.env.PATH}:/usr/sbin:/sbin` }
const run = (program: string, ...args: string[]) => execFileSync(program, args, { env, stdio: 'pipe' })
let folder: string
let source: MemoryDevice
const at = (name: string) => path.join(folder, name)

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-volumes-'))
  source = await makeSystemDisk()
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

const KINDS = [
  { kind: 'NTFS', make: (file: string) => makeNtfs(file, { sizeBytes: 3000 * MIB, clusterBytes: 4096 }) },
  { kind: 'exFAT', make: (file: string) => run('mkfs.exfat', file) },
  { kind: 'FAT32', make: (file: string) => run('mkfs.fat', '-F', '32', '-s', '64', file) },
] as const

async function problemsOf(kind: (typeof KINDS)[number]['kind'], file: string): Promise<string[]> {
  if (kind === 'FAT32') return /differ|wrong|invalid|reclaimed|orphan/i.test(checkFat(file)) ? [checkFat(file)] : []
  if (kind === 'exFAT') {
    const { stdout, stderr, status } = spawnSync('fsck.exfat', ['-n', file], { encoding: 'utf8', env })
    return status === 0 && /clean/.test(stdout) ? [] : [stdout + stderr]
  }
  return checkNtfsFile(file)
}

/** A volume of that kind whose free room holds what was there before. */
async function volumeOf({ kind, make }: (typeof KINDS)[number]) {
  const file = sparseFile(at(`${kind}.volume`), 3000 * MIB, [])
  make(file)
  const device = await SparseFileDevice.open(file, {
    writable: true,
    logicalSectorSize: 512,
    physicalSectorSize: 4096,
  })
  return { file, device, notes: at(`${kind}.notes`) }
}

/** As the other readers' files are digested. */
const sumOfFile = (file: string) => sumOf(readFileSync(file))

/** Digests of the files in the volume's root, by another reader. */
function readBy(kind: (typeof KINDS)[number]['kind'], file: string, out: string): Map<string, string> {
  if (kind !== 'exFAT') return extractDigests(file, '*', at(out))
  return withExfat(file, at(out), (root) => {
    return new Map(readdirSync(root).map((name) => [name, sumOfFile(path.join(root, name))]))
  })
}

/** Calls `work` with the folder at which the volume is mounted for reading. */
function withExfat<T>(file: string, folder: string, work: (root: string) => T): T {
  const device = run('losetup', '--find', '--show', '--read-only', file).toString().trim()
  mkdirSync(folder)
  try {
    run('mount.exfat-fuse', '-o', 'ro', device, folder)
    try {
      return work(folder)
    } finally {
      run('umount', folder)
    }
  } finally {
    run('losetup', '--detach', device)
  }
}

/** One of those files as a file of this host. */
function takenOut(kind: (typeof KINDS)[number]['kind'], file: string, name: string, out: string): string {
  mkdirSync(at(out))
  const copy = path.join(at(out), name)
  if (kind !== 'exFAT') execFileSync('7zz', ['x', '-y', `-o${at(out)}`, file, name], { stdio: 'pipe' })
  else withExfat(file, `${at(out)} mounted`, (root) => copyFileSync(path.join(root, name), copy))
  return copy
}

const options = (to: TargetKind, more: object = {}) => ({
  to,
  note: 'a test',
  work: '',
  time: 0,
  onStep: async () => {},
  ...more,
})

describe.each(KINDS)('an image as a file of a $kind volume', (kind) => {
  it('is the file that it would be in a folder, its volume is sound, and other readers see it', async () => {
    const { file, device, notes } = await volumeOf(kind)
    const store = new VolumeFolder(device, notes, () => Date.UTC(2026, 4, 4))
    const digests = new Map<string, string>()
    for (const to of ['vhdx', 'qcow2-packed', 'vmdk'] as const) {
      const name = `Ticket desk, 4 May – ${to}.${TARGETS[to].extension}`
      const plan = await planImage(source)
      await writeImageInto(store, name, plan, options(to, { job: 'one job' }))
      const reference = at(`${kind.kind} folder/${name}`)
      mkdirSync(path.dirname(reference), { recursive: true })
      await writeImage(plan, reference, options(to, { job: 'one job' }))
      digests.set(name, sumOfFile(reference))
    }
    await store.putText('kept.json', '{"of": "it"}')
    await store.putText('kept.json', '{"of": "another"}')
    await device.close()
    expect(await problemsOf(kind.kind, file)).toEqual([])
    const found = readBy(kind.kind, file, `${kind.kind} out`)
    for (const [name, digest] of digests) expect(found.get(name), name).toBe(digest)
    expect(found.has('kept.json')).toBe(true)
    expect([...found.keys()].filter((name) => /partial|unfinished/.test(name))).toEqual([])
  })

  it('goes on after it was cut off, and what was begun is taken away where nobody goes on', async () => {
    const { file, device, notes } = await volumeOf(kind)
    const store = () => new VolumeFolder(device, notes, () => Date.UTC(2026, 4, 4))
    const plan = await planImage(source)
    let steps = 0
    let uncached = 0
    Object.assign(device, { uncache: async () => void uncached++ })
    const cut = {
      checkpoint: () => {
        if (++steps > 4) throw new Error('cut off')
      },
    }
    await expect(writeImageInto(store(), 'gone.vhdx', plan, options('vhdx', cut))).rejects.toThrow(/cut off/)
    expect(await store().has('gone.vhdx')).toBe(false)
    steps = 0
    const journal = at(`${kind.kind}.journal`)
    const first = writeImageInto(store(), 'kept.vhdx', plan, options('vhdx', { ...cut, journal }))
    await expect(first).rejects.toThrow(/cut off/)
    expect(await store().has('kept.vhdx.unfinished')).toBe(true)
    let copied = 0
    let checked = 0
    const onStep = async ({ phase }: { phase: string }) => {
      if (phase === 'copy') copied = uncached
      if (phase === 'check') checked ||= uncached
    }
    await writeImageInto(
      store(),
      'kept.vhdx',
      plan,
      options('vhdx', { journal, resume: true, recheck: 'every', onStep }),
    )
    // What is read back comes from the medium.
    expect(checked).toBeGreaterThan(copied)
    await device.close()
    expect(await problemsOf(kind.kind, file)).toEqual([])
    const found = readBy(kind.kind, file, `${kind.kind} again`)
    expect([...found.keys()].filter((name) => /\.vhdx/.test(name))).toEqual(['kept.vhdx'])
    const whole = at(`${kind.kind}.vhdx`)
    await writeImage(plan, whole, options('vhdx'))
    const copy = takenOut(kind.kind, file, 'kept.vhdx', `${kind.kind} file`)
    expect(diskDigest(copy, 'vhdx')).toBe(diskDigest(whole, 'vhdx'))
  })
})

describe('a volume', () => {
  it('that has too little room, or holds no file so large, says so before anything is made', async () => {
    const file = sparseFile(at('small.volume'), 300 * MIB, [])
    run('mkfs.exfat', file)
    const device = await SparseFileDevice.open(file, {
      writable: true,
      logicalSectorSize: 512,
      physicalSectorSize: 512,
    })
    const store = new VolumeFolder(device, at('small.notes'))
    await expect(store.create('image.img', async () => 400 * MIB)).rejects.toThrow(/too little free room/)
    expect(await store.has('image.img')).toBe(false)
    await device.close()
    const fat = sparseFile(at('fat.volume'), 9000 * MIB, [])
    run('mkfs.fat', '-F', '32', fat)
    const other = await SparseFileDevice.open(fat, { writable: true, logicalSectorSize: 512, physicalSectorSize: 512 })
    const narrow = new VolumeFolder(other, at('fat.notes'))
    await expect(narrow.create('image.img', async () => 5000 * MIB)).rejects.toThrow(/no file as large/)
    await other.close()
  })

  it('is read as it was before a change that was cut off, and is not written for that', async () => {
    const file = sparseFile(at('cut.volume'), 300 * MIB, [])
    run('mkfs.exfat', file)
    const sectors = { logicalSectorSize: 512, physicalSectorSize: 512 } as const
    const device = await SparseFileDevice.open(file, { writable: true, ...sectors })
    const notes = at('cut.notes')
    await new VolumeFolder(device, notes).putText('kept.img', 'whole')
    let writes = 0
    const cut: BlockDevice = {
      ...{ size: device.size, ...sectors },
      read: (offset, into) => device.read(offset, into),
      write: async (offset, bytes) => {
        if (++writes > 1) throw new Error('cut off')
        await device.write(offset, bytes)
      },
      flush: () => device.flush(),
    }
    await expect(new VolumeFolder(cut, notes).putText('begun.img', 'half')).rejects.toThrow(/cut off/)
    expect(writes).toBeGreaterThan(1)
    const before = digestOfFile(file)
    const reading = await VolumeFolder.toRead(device, notes)
    expect((await reading.list()).map((f) => f.name)).toEqual(['kept.img'])
    expect(await reading.text('kept.img', 100)).toBe('whole')
    await expect(reading.text('kept.img', 4)).rejects.toThrow(/larger than it can be/)
    expect(digestOfFile(file)).toBe(before)
    expect((await new VolumeFolder(device, notes).list()).map((f) => f.name)).toEqual(['kept.img'])
    expect(digestOfFile(file)).not.toBe(before)
    await device.close()
    expect(await problemsOf('exFAT', file)).toEqual([])
  })

  it('that was formatted anew after a change was cut off is taken as it is now', async () => {
    const file = sparseFile(at('anew.volume'), 300 * MIB, [])
    run('mkfs.exfat', file)
    const sectors = { logicalSectorSize: 512, physicalSectorSize: 512 } as const
    const notes = at('none yet/anew.notes')
    const open = () => SparseFileDevice.open(file, { writable: true, ...sectors })
    const device = await open()
    const record = async (work: (volume: BlockDevice) => Promise<void>) => {
      const patches = (await patchesOf(device, work)).map((patch) => ({ ...patch }))
      return recordText({ kind: 'repair', name: 'files', title: 'x', changes: [], state: 'writing', patches })
    }
    const text = await record((volume) => volume.write(0, new Uint8Array(512).fill(0xaa)))
    await device.write(0, new Uint8Array(512).fill(0x55))
    await device.close()
    run('mkfs.exfat', file)
    mkdirSync(path.dirname(notes), { recursive: true })
    // What is kept speaks of a first sector that is neither.
    writeFileSync(
      `${notes}.change`,
      text.replace(/"before":"[^"]*"/, `"before":"${Buffer.alloc(512, 0x11).toString('base64')}"`),
    )
    const again = await open()
    expect(await (await VolumeFolder.toRead(again, notes)).list()).toEqual([])
    await new VolumeFolder(again, notes).putText('kept.json', '{}')
    expect((await (await VolumeFolder.toRead(again, notes)).list()).map((f) => f.name)).toEqual(['kept.json'])
    await again.close()
    expect(await problemsOf('exFAT', file)).toEqual([])
  })

  it.each(KINDS)('with $kind takes no name that others could not read', async (kind) => {
    const { device, notes } = await volumeOf(kind)
    const store = new VolumeFolder(device, notes)
    const before = await store.list()
    for (const name of ['a:b.img', 'what?.img', 'dot.', 'blank ', `${'x'.repeat(252)}.img`])
      await expect(
        store.create(name, async () => MIB),
        name,
      ).rejects.toThrow(/cannot be the name of a file/)
    expect(await store.list()).toEqual(before)
    await device.close()
  })

  it('takes the changes of its own driver before and after', async () => {
    const file = sparseFile(at('used.volume'), 400 * MIB, [])
    makeNtfs(file, { sizeBytes: 400 * MIB, clusterBytes: 4096 })
    await withNtfs(file, (root) => {
      for (let i = 0; i < 400; i++) writeFileSync(path.join(root, `Chart ${i}.txt`), 'x'.repeat(5000 + i))
    })
    const device = await SparseFileDevice.open(file, {
      writable: true,
      logicalSectorSize: 512,
      physicalSectorSize: 512,
    })
    const store = new VolumeFolder(device, at('used.notes'))
    await store.putText('Chart 7.txt', 'replaced')
    await store.putText('ähnlich.txt', 'made')
    await store.remove('Chart 399.txt')
    await device.close()
    expect(await problemsOf('NTFS', file)).toEqual([])
    await withNtfs(file, (root) => {
      expect(execFileSync('cat', [path.join(root, 'Chart 7.txt')], { encoding: 'utf8' })).toBe('replaced')
      rmSync(path.join(root, 'ähnlich.txt'))
      for (let i = 0; i < 200; i++) writeFileSync(path.join(root, `New ${i}.txt`), 'y'.repeat(3000))
    })
    expect(await problemsOf('NTFS', file)).toEqual([])
  })
})
