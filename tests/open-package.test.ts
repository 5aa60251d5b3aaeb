import {
  copyFileSync,
  createWriteStream,
  cpSync,
  mkdtempSync,
  readFileSync,
  rmSync,
  truncateSync,
  writeFileSync,
} from 'node:fs'
import { createHash } from 'node:crypto'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { pipeline } from 'node:stream/promises'
import { pack } from 'tar-stream'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { type BlockDevice, readBytes } from '@/core/block/device'
import type { MemoryDevice } from '@/core/block/memory'
import { planImage } from '@/core/copy/plan-whole'
import { makeSystemDisk, sha256 } from '@/core/testing-disk'
import { surveyDrive } from '@/core/survey/survey'
import { proposeMachine } from '@/core/vm/propose'
import { openHostImage } from '@/host/images'
import { openPackage } from '@/host/open-package'
import { diskName, writePackage } from '@/host/package'

// Packages of virtual machines that are read, and those that are not to be trusted.

let folder: string
let disk: MemoryDevice
const at = (name: string) => path.join(folder, name)
let asides = 0
const options = () => ({ aside: at(`aside ${++asides}`) })

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-packages-'))
  disk = await makeSystemDisk()
  const file = diskName('desk', 0, 'vmdk-stream')
  const { machine } = proposeMachine({
    name: 'desk',
    drives: [{ survey: await surveyDrive(disk, sha256), file }],
    drivers: undefined,
  })
  for (const output of ['desk', 'desk.ova'])
    await writePackage(machine, [{ plan: await planImage(disk), file }], at(output), {
      format: 'vmdk-stream',
      time: 0,
      onStep: async () => {},
    })
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

async function digestOf(device: BlockDevice): Promise<string> {
  const hash = createHash('sha256')
  for (let at = 0; at < device.size; at += 2 ** 22)
    hash.update(await readBytes(device, at, Math.min(2 ** 22, device.size - at)))
  return hash.digest('hex')
}

/** The folder once more, to be changed. */
function copyOf(name: string): { descriptor: string; disk: string; manifest: string } {
  cpSync(at('desk'), at(name), { recursive: true })
  const file = (end: string) => path.join(at(name), `desk${end}`)
  return {
    descriptor: file('.ovf'),
    disk: path.join(at(name), diskName('desk', 0, 'vmdk-stream')),
    manifest: file('.mf'),
  }
}

describe('a package', () => {
  it.each(['desk.ova', 'desk/desk.ovf'])('is read from %s with its machine and the same disk', async (name) => {
    const opened = await openPackage(at(name), options())
    expect(opened.verified).toBe(true)
    expect(opened.machine).toMatchObject({ name: 'desk', firmware: 'uefi', disks: [{ controller: 'sata', place: 0 }] })
    const image = await openHostImage(opened.disks[0])
    expect(await digestOf(image.device)).toBe(await digestOf(disk))
    await image.close()
  })

  it('that was changed, is cut off, or lacks a file is refused', async () => {
    const changed = copyOf('changed')
    const bytes = readFileSync(changed.disk)
    bytes[bytes.length >> 1] ^= 1
    writeFileSync(changed.disk, bytes)
    await expect(openPackage(changed.descriptor, options())).rejects.toThrow(/is not what the manifest/)
    const lacking = copyOf('lacking')
    rmSync(lacking.disk)
    await expect(openPackage(lacking.descriptor, options())).rejects.toThrow(/which is not in it/)
    const unnamed = copyOf('unnamed')
    writeFileSync(unnamed.manifest, readFileSync(unnamed.manifest, 'utf8').split('\n').slice(0, 1).join('\n'))
    await expect(openPackage(unnamed.descriptor, options())).rejects.toThrow(/does not name/)
    const bare = copyOf('bare')
    rmSync(bare.manifest)
    expect((await openPackage(bare.descriptor, options())).verified).toBe(false)
    copyFileSync(at('desk.ova'), at('cut.ova'))
    truncateSync(at('cut.ova'), 200_000)
    await expect(openPackage(at('cut.ova'), options())).rejects.toThrow(/no tar, or ends|not in it|manifest/)
    writeFileSync(at('none.ova'), 'no tar at all, but long enough to be taken for one'.repeat(40))
    await expect(openPackage(at('none.ova'), options())).rejects.toThrow(/tar/)
  })

  it.each([
    ['../outside.ovf', 'file', /outside of its folder/],
    ['/etc/outside.ovf', 'file', /outside of its folder/],
    ['link.ovf', 'symlink', /no file/],
  ] as const)('with %s in it is refused, and nothing is written there', async (name, type, sentence) => {
    const tar = pack()
    if (type === 'symlink') tar.entry({ name, type, linkname: '/etc/passwd' })
    else tar.entry({ name }, 'x')
    tar.finalize()
    const file = at(`bad ${asides}.ova`)
    await pipeline(tar, createWriteStream(file))
    await expect(openPackage(file, options())).rejects.toThrow(sentence)
    expect(() => readFileSync(at('outside.ovf'))).toThrow()
  })

  it('with two files of one name is refused', async () => {
    const tar = pack()
    tar.entry({ name: 'a.ovf' }, 'x')
    tar.entry({ name: 'A.OVF' }, 'y')
    tar.finalize()
    await pipeline(tar, createWriteStream(at('twice.ova')))
    await expect(openPackage(at('twice.ova'), options())).rejects.toThrow(/two files of the name/)
  })
})
