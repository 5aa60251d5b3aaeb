import { execFileSync, spawnSync } from 'node:child_process'
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { readBytes } from '@/core/block/device'
import type { MemoryDevice } from '@/core/block/memory'
import { MIB } from '@/core/bytes/size'
import { makeInf } from '@/core/drivers/make'
import { pattern } from '@/core/testing'
import { makeBiosDisk, makeLinuxDisk, makeSystemDisk, ROOT_UUID } from '@/core/testing-disk'
import { imbarco, digestOfFile, sparseFile } from './support/image-files'
import { cutPartition, diskGuid, gdiskPartitions, gdiskProblems } from './support/independent'

let folder: string
const at = (name: string) => path.join(folder, name)
const parse = (text: string) => JSON.parse(text)

async function fileOf(name: string, device: MemoryDevice): Promise<string> {
  const parts: [number, Uint8Array][] = []
  for (const { offset, length } of await device.mapped(0, device.size))
    parts.push([offset, await readBytes(device, offset, length)])
  return sparseFile(at(name), device.size, parts)
}

beforeAll(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-boot-'))
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

describe('imbarco trace and repair', () => {
  it('follow a start by UEFI for people and for programs, and leave the image as it is', async () => {
    const file = await fileOf('uefi.img', await makeSystemDisk())
    const before = digestOfFile(file)
    const told = await imbarco('trace', file, '--firmware', 'uefi', '--driver', 'storahci')
    expect([told.code, told.out]).toEqual([
      0,
      expect.stringMatching(/Sign-in +passed +C: is this volume[^]*No link fails/),
    ])
    const { links, starts } = parse((await imbarco('trace', file, '--firmware', 'uefi', '--json')).out)
    expect(starts).toBe(true)
    expect(links.map((l: { id: string; state: string }) => `${l.id} ${l.state}`)).toEqual([
      'firmware passed',
      'table passed',
      'boot-partition passed',
      'loader passed',
      'settings passed',
      'system-volume passed',
      'driver unproved',
      'sign-in passed',
    ])
    expect((await imbarco('trace', file, '--firmware', 'uefi', '--driver', 'stornvme')).code).toBe(1)
    expect((await imbarco('trace', file)).code).toBe(2)
    expect(digestOfFile(file)).toBe(before)
  })

  it('bring a driver in from a folder, so that other programs find it on the volume', async () => {
    const file = await fileOf('driver.img', await makeSystemDisk())
    const drivers = at('given out')
    mkdirSync(path.join(drivers, 'T9'), { recursive: true })
    const about = { provider: 'Tramonto', name: 'ST9', hardwareIds: ['PCI\\VEN_1F5C&DEV_09A1'] }
    writeFileSync(
      path.join(drivers, 'T9', 'trmst9.inf'),
      makeInf({ kind: 'storage', ...about, service: 'trmst9', date: '03/11/2025', version: '2.4.1.0' }),
    )
    writeFileSync(path.join(drivers, 'T9', 'trmst9.sys'), pattern(90_000, 4))
    const asked = [file, 'bring-driver', '--driver', 'trmst9', '--json']
    const { links } = parse((await imbarco('trace', file, '--firmware', 'uefi', '--driver', 'trmst9', '--json')).out)
    expect(links.find((l: { id: string }) => l.id === 'driver').repairs).toEqual(['bring-driver'])
    expect((await imbarco('repair', ...asked)).error).toMatch(/No driver folder is at hand/)
    const before = digestOfFile(file)
    expect(parse((await imbarco('repair', ...asked, '--driver-folder', drivers, '--dry-run')).out).state).toBe(
      'planned',
    )
    expect(digestOfFile(file)).toBe(before)
    expect(parse((await imbarco('repair', ...asked, '--driver-folder', drivers)).out).state).toBe('done')
    expect((await imbarco('trace', file, '--firmware', 'uefi', '--driver', 'trmst9')).code).toBe(0)
    const system = cutPartition(file, gdiskPartitions(file).get(3)!, at('system.ntfs'))
    const out = execFileSync('7zz', ['e', '-so', system, 'Windows/System32/drivers/trmst9.sys'], {
      maxBuffer: 1024 * 1024,
      stdio: ['ignore', 'pipe', 'ignore'],
    })
    expect(out.equals(Buffer.from(pattern(90_000, 4)))).toBe(true)
    const hive = execFileSync('7zz', ['e', '-so', system, 'Windows/System32/config/SYSTEM'], {
      maxBuffer: 1024 * 1024,
      stdio: ['ignore', 'pipe', 'ignore'],
    })
    writeFileSync(at('SYSTEM'), hive)
    const key = execFileSync('hivexsh', [at('SYSTEM')], {
      input: 'cd \\ControlSet001\\Services\\trmst9\nlsval\n',
      encoding: 'utf8',
    })
    expect(key).toMatch(/"Start"=dword:00000000/)
    // Another program finds the whole package where the system keeps it, and the device that it serves.
    const listed = execFileSync('7zz', ['l', '-slt', '-ba', system], {
      encoding: 'utf8',
      stdio: ['ignore', 'pipe', 'ignore'],
    })
    const store = /Windows\/System32\/DriverStore\/FileRepository\/trmst9\.inf_amd64_[0-9a-f]{16}/.source
    for (const name of [store, `${store}/trmst9\\.inf`, `${store}/trmst9\\.sys`, 'Windows/INF/oem0\\.inf'])
      expect(listed).toMatch(new RegExp(`^Path = ${name}$`, 'm'))
    const devices = execFileSync('hivexsh', [at('SYSTEM')], {
      input: 'cd \\ControlSet001\\Control\\CriticalDeviceDatabase\nls\n',
      encoding: 'utf8',
    })
    expect(devices.trim()).toBe('pci#ven_1f5c&dev_09a1')
    execFileSync('ntfsfix', ['-n', system], { stdio: 'ignore' })
  })

  it('bring in no driver that is for another device, whatever its name', async () => {
    const file = await fileOf('other device.img', await makeSystemDisk())
    const drivers = at('given out for another')
    mkdirSync(drivers)
    const about = { provider: 'Tramonto', hardwareIds: ['PCI\\VEN_1F5C&DEV_2201'], date: '03/11/2025', version: '1' }
    const inf = makeInf({ kind: 'network', name: 'NE9', service: 'trmne9', ...about })
    writeFileSync(path.join(drivers, 'trmne9.inf'), inf)
    writeFileSync(path.join(drivers, 'trmne9.sys'), pattern(30_000, 4))
    writeFileSync(path.join(drivers, 'cut.inf'), inf.slice(0, 250))
    const asked = [file, 'bring-network-driver', '--driver-folder', drivers, '--json', '--device-id']
    const before = digestOfFile(file)
    const refused = (await imbarco('repair', ...asked, 'PCI\\VEN_1F5C&DEV_2299')).error
    expect(refused).toMatch(/needs PCI\\VEN_1F5C&DEV_2299\. There is: trmne9, for PCI\\VEN_1F5C&DEV_2201\..*cut\.inf/)
    expect((await imbarco('repair', ...asked, 'USB\\1')).error).toMatch(/reads like PCI/)
    expect(digestOfFile(file)).toBe(before)
    expect(parse((await imbarco('repair', ...asked, 'PCI\\VEN_1F5C&DEV_2201&REV_01')).out).state).toBe('done')
    expect(parse((await imbarco('repair', ...asked, 'PCI\\VEN_1F5C&DEV_2201')).out).state).toBe('nothing')
  })

  it('mend a moved start-up sector by BIOS, once it was said what that changes', async () => {
    const device = await makeBiosDisk()
    const sector = (await readBytes(device, 2048 * 512, 512)).slice()
    sector.set([63, 0, 0, 0], 28)
    await device.write(2048 * 512, sector)
    const file = await fileOf('bios.img', device)
    const before = digestOfFile(file)
    const broken = await imbarco('trace', file, '--firmware', 'bios', '--json')
    expect(broken.code).toBe(1)
    const failed = parse(broken.out).links.find((l: { state: string }) => l.state === 'failed')
    expect(failed).toMatchObject({ id: 'boot-partition', repairs: ['hidden-sectors'] })
    expect(failed.evidence).toMatch(/expected 2.048, found 63/)
    const dry = await imbarco('repair', file, 'hidden-sectors', '--dry-run', '--json')
    expect(parse(dry.out)).toMatchObject({ state: 'planned', sectors: 1 })
    expect(digestOfFile(file)).toBe(before)
    expect(existsSync(`${file}.repair`)).toBe(false)
    expect((await imbarco('repair', file, 'hidden-sectors')).out).toMatch(/63 becomes 2.048[^]*Written and read back/)
    expect((await imbarco('trace', file, '--firmware', 'bios')).code).toBe(0)
    expect(JSON.parse(readFileSync(`${file}.repair`, 'utf8')).state).toBe('done')
    expect(parse((await imbarco('repair', file, 'hidden-sectors', '--json')).out).state).toBe('nothing')
  })

  it('put a loader where firmware looks last, on a volume that an independent check finds sound', async () => {
    const file = await fileOf('bare.img', await makeSystemDisk({ fallback: false }))
    const broken = await imbarco('trace', file, '--firmware', 'uefi', '--json')
    expect(broken.code).toBe(1)
    expect(parse(broken.out).links.find((l: { state: string }) => l.state === 'failed')).toMatchObject({
      state: 'failed',
      repairs: ['boot-entry', 'fallback-loader', 'new-store'],
    })
    expect((await imbarco('repair', file, 'boot-entry')).error).toMatch(/kept in the computer, not on the drive/)
    expect((await imbarco('repair', file, 'fallback-loader')).out).toMatch(/BOOTX64.EFI is made/)
    expect((await imbarco('trace', file, '--firmware', 'uefi')).code).toBe(0)
    const esp = cutPartition(file, gdiskPartitions(file).get(1)!, at('esp.img'))
    const checked = spawnSync('/usr/sbin/fsck.fat', ['-n', '-v', esp], { encoding: 'utf8' })
    expect([checked.status, checked.stdout]).toEqual([0, expect.not.stringMatching(/wrong|differ|Orphan|Reclaim/i)])
  })

  it('give a drive another identity that an independent reader sees', async () => {
    const file = await fileOf('renewed.img', await makeSystemDisk())
    const before = diskGuid(file)
    expect((await imbarco('repair', file, 'disk-identity')).code).toBe(0)
    expect(diskGuid(file)).not.toBe(before)
    expect(gdiskProblems(file)).toBe('')
    expect((await imbarco('trace', file, '--firmware', 'uefi')).code).toBe(0)
  })

  it('look up a Linux root by its UUID, in the loader’s settings and in its mount table', async () => {
    const uuid = ROOT_UUID
    const root = (mounts: string) => {
      const tree = mkdtempSync(at('tree-'))
      mkdirSync(path.join(tree, 'etc'))
      writeFileSync(path.join(tree, 'etc', 'fstab'), mounts)
      const volume = `${tree}.img`
      writeFileSync(volume, '')
      truncateSync(volume, 64 * MIB)
      execFileSync('/usr/sbin/mke2fs', ['-q', '-t', 'ext4', '-L', 'root', '-U', uuid, '-d', tree, volume], {
        stdio: 'ignore',
      })
      return readFileSync(volume)
    }
    const device = await makeLinuxDisk()
    const system = (mounts: string) => device.write(41 * MIB, root(mounts))
    await system(`UUID=${uuid} / ext4 defaults 0 1\n`)
    const sound = parse((await imbarco('trace', await fileOf('linux.img', device), '--firmware', 'uefi', '--json')).out)
    expect(sound.links.map((l: { state: string }) => l.state)).toEqual([
      ...Array<string>(6).fill('passed'),
      'unproved',
      'unproved',
    ])
    expect(sound.links[5].evidence).toContain(`UUID=${uuid} / ext4`)
    await system('UUID=00000000-1111-4222-8333-444444444444 / ext4 defaults 0 1\n')
    const other = parse((await imbarco('trace', await fileOf('other.img', device), '--firmware', 'uefi', '--json')).out)
    expect(other.links[5]).toMatchObject({ state: 'failed', found: 'its mount table names another root' })
  })

  it('say what they cannot do, and write nothing then', async () => {
    const file = await fileOf('whole.img', await makeSystemDisk())
    const made = await imbarco('convert', file, at('whole.vhdx'))
    expect(made.code).toBe(0)
    expect((await imbarco('repair', at('whole.vhdx'), 'backup-table')).error).toMatch(/Only a raw image/)
    expect((await imbarco('repair', file, 'luck')).error).toMatch(/There is no repair "luck"/)
    expect((await imbarco('repair', file, 'active-partition')).error).toMatch(/Only an MBR/)
    expect((await imbarco('repair', at('nothing.img'), 'backup-table')).code).toBe(2)
    expect((await imbarco('trace', at('nothing.img'), '--firmware', 'bios')).code).toBe(2)
  })
})

describe('a system that comes onto a drive beside another', () => {
  it('gets room from it and an entry of its own, and each of them starts', async () => {
    const source = await fileOf('second.img', await makeSystemDisk())
    const drive = await fileOf('both.img', await makeSystemDisk({ sizeBytes: 1024 * MIB }))
    const before = gdiskPartitions(drive)
    const args = ['restore', source, drive, '--volumes', '3', '--into-free', '--shrink-neighbour', '3']
    const { code, out, error } = await imbarco(...args, '--entry', '--json')
    expect([code, error.replace(/^\{.*\}$/gm, '').trim()]).toEqual([0, ''])
    const { into, startChanges } = parse(out)
    expect([into, startChanges]).toEqual([
      5,
      [
        expect.stringMatching(/“Windows, .+” is a further entry, which starts partition 5/),
        expect.stringMatching(/C: names partition 5/),
      ],
    ])
    const after = gdiskPartitions(drive)
    for (const number of [1, 2, 4]) expect(after.get(number)).toEqual(before.get(number))
    expect([after.get(3)!.first, gdiskProblems(drive)]).toEqual([before.get(3)!.first, ''])
    const starts = async (...more: string[]) => {
      const { starts: does, systemPartition } = parse(
        (await imbarco('trace', drive, '--firmware', 'uefi', ...more, '--json')).out,
      )
      return [does, systemPartition]
    }
    expect([await starts(), await starts('--system', '3'), await starts('--system', '5')]).toEqual([
      [true, 3],
      [true, 3],
      [true, 5],
    ])
    // What is not there is said.
    const none = parse((await imbarco('trace', drive, '--firmware', 'uefi', '--system', '4', '--json')).out)
    expect(none.links.find((l: { state: string }) => l.state === 'failed')).toMatchObject({
      id: 'settings',
      repairs: ['system-entry'],
    })
    expect((await imbarco('trace', drive, '--firmware', 'uefi', '--system', '9')).code).toBe(2)
    const again = parse((await imbarco('repair', drive, 'system-entry', '--firmware', 'uefi', '--json')).out)
    expect(again.state).toBe('nothing')
    // The menu is a hive that another program reads, with both entries.
    const esp = cutPartition(drive, after.get(1)!, at('esp of both'))
    execFileSync('mcopy', ['-n', '-i', esp, '::/EFI/Microsoft/Boot/BCD', at('BCD of both')])
    const objects = spawnSync('hivexsh', [at('BCD of both')], { input: 'cd Objects\nls\n', encoding: 'utf8' }).stdout
    expect(objects.trim().split('\n').length).toBe(3)
  })

  it('is there and says why it does not start where nothing could start it', async () => {
    const source = await fileOf('third.img', await makeSystemDisk())
    const drive = sparseFile(at('bare.img'), 600 * MIB, [])
    execFileSync('/usr/sbin/sgdisk', ['-n', '1:2048:+64M', '-t', '1:0700', drive])
    const { code, out } = await imbarco('restore', source, drive, '--volumes', '3', '--into-free', '--entry', '--json')
    expect([code, parse(out)]).toEqual([
      1,
      expect.objectContaining({
        verified: true,
        hasEntry: false,
        startProblem: expect.stringMatching(/no EFI system/),
      }),
    ])
    expect(gdiskProblems(drive)).toBe('')
  })

  it('of a BIOS gets one in the settings of the active partition', async () => {
    const source = await fileOf('second bios.img', await makeBiosDisk())
    const drive = await fileOf('both bios.img', await makeBiosDisk())
    truncateSync(drive, 1024 * MIB)
    const system = parse((await imbarco('survey', source, '--json')).out).partitions.find(
      (p: { system: unknown }) => p.system,
    )
    const args = ['restore', source, drive, '--volumes', String(system.number), '--into-free', '--entry', '--json']
    const { code, out } = await imbarco(...args)
    const { into } = parse(out)
    expect([code, into]).toEqual([0, expect.any(Number)])
    for (const number of [system.number, into]) {
      const followed = parse(
        (await imbarco('trace', drive, '--firmware', 'bios', '--system', String(number), '--json')).out,
      )
      expect([followed.starts, followed.systemPartition]).toEqual([true, number])
    }
  })
})
