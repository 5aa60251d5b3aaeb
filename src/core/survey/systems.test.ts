import { describe, expect, it } from 'vitest'
import type { FileSystem } from '../filesystem'
import { readFileBy } from '../filesystem/entries'
import { makeHive } from '../registry/make'
import { sha256 } from '../testing-disk'
import { pattern, utf8 } from '../testing'
import { idleFiles } from './idle-files'
import { hasLetter, roleOf } from './roles'
import { installedSystem } from './systems'

/** A volume that holds just these files. */
function volumeWith(files: Readonly<Record<string, Uint8Array>>, kind = 'ntfs'): FileSystem {
  const entry = (path: string) => ({
    name: path.split('/').at(-1)!,
    path,
    kind: 'file' as const,
    sizeBytes: files[path].length,
  })
  const openFile = async (path: string) => ({
    read: async (offset: number, length: number) => files[path].slice(offset, offset + length),
  })
  return {
    kind,
    name: kind,
    label: '',
    serial: '',
    clusterSize: 4096,
    totalBytes: 0,
    state: 'clean',
    depth: 'files',
    findings: [],
    async *usedExtents() {},
    list: async () => Object.keys(files).map(entry),
    stat: async (path) => (files[path] ? entry(path) : undefined),
    openFile,
    readFile: readFileBy(openFile),
  }
}

const windows = (values: Record<string, string>) => ({
  '/Windows/System32/winload.efi': pattern(100, 1),
  '/Windows/System32/config/SOFTWARE': makeHive(
    'SOFTWARE',
    { keys: { Microsoft: { keys: { 'Windows NT': { keys: { CurrentVersion: { values } } } } } } },
    1n,
  ),
})

/** The head of a PE image for a machine. */
function imageFor(machine: number): Uint8Array {
  const bytes = new Uint8Array(128)
  bytes.set([0x4d, 0x5a])
  const view = new DataView(bytes.buffer)
  view.setUint32(60, 0x40, true)
  view.setUint32(0x40, 0x4550, true)
  view.setUint16(0x44, machine, true)
  return bytes
}

describe('the system on a volume', () => {
  it.each([
    [0x14c, 32],
    [0x8664, 64],
    [0xaa64, 64],
    [0x1c0, undefined],
  ])('is told by its loader for which machine it is: %i', async (machine, bits) => {
    const volume = volumeWith({ '/Windows/System32/winload.exe': imageFor(machine) })
    expect((await installedSystem(volume, sha256))?.bits).toBe(bits)
  })

  it.each([
    [
      'Windows 10 by its registry',
      windows({ ProductName: 'Windows 10 Pro', CurrentBuild: '19045', DisplayVersion: '22H2' }),
      'Windows 10 Pro',
      '22H2, build 19045',
    ],
    [
      'Windows 11, which still calls itself 10',
      windows({ ProductName: 'Windows 10 Home', CurrentBuild: '22631', DisplayVersion: '23H2' }),
      'Windows 11 Home',
      '23H2, build 22631',
    ],
    [
      'Windows without a readable registry',
      { '/Windows/System32/winload.exe': pattern(9), '/Windows/System32/config/SOFTWARE': pattern(9000) },
      'Windows',
      undefined,
    ],
    [
      'Linux by os-release',
      {
        '/etc/os-release': utf8(
          'PRETTY_NAME="Debian GNU/Linux 12 (bookworm)"\nNAME="Debian GNU/Linux"\nVERSION="12 (bookworm)"\n',
        ),
      },
      'Debian GNU/Linux',
      '12 (bookworm)',
    ],
    [
      'Linux whose version is an ID',
      { '/usr/lib/os-release': utf8('NAME=Arch\nVERSION_ID=rolling\n') },
      'Arch',
      'rolling',
    ],
    [
      'macOS by its property list',
      {
        '/System/Library/CoreServices/SystemVersion.plist': utf8(
          '<?xml version="1.0"?><plist version="1.0"><dict><key>ProductName</key><string>macOS</string><key>ProductVersion</key><string>12.7</string></dict></plist>',
        ),
      },
      'macOS',
      '12.7',
    ],
  ])('%s', async (_what, files, name, version) => {
    const system = await installedSystem(volumeWith(files), sha256)
    expect([system?.name, system?.version]).toEqual([name, version])
  })

  it('is none where no file tells of one', async () => {
    expect(await installedSystem(volumeWith({ '/readme.txt': pattern(5) }), sha256)).toBeUndefined()
  })
})

describe('files that a system makes anew', () => {
  it('are found with their sizes, and a system that sleeps is told', async () => {
    const { files, findings } = await idleFiles(
      volumeWith({
        '/pagefile.sys': pattern(4096),
        '/hiberfil.sys': utf8('HIBR and more'),
        '/swapfile.sys': pattern(16),
      }),
    )
    expect(files.map((f) => [f.kind, f.sizeBytes, f.asleep])).toEqual([
      ['page', 4096, false],
      ['swap', 16, false],
      ['hibernation', 13, true],
    ])
    expect(findings.map((f) => f.code)).toEqual(['system.hibernated'])
    expect((await idleFiles(volumeWith({ '/hiberfil.sys': utf8('wake') }))).findings).toEqual([])
  })
})

describe('the role of a partition', () => {
  const entry = (type: number) => ({
    number: 1,
    typeGuid: '',
    guid: '',
    name: '',
    attributes: '0'.repeat(16),
    firstLba: 1,
    lastLba: 2,
    mbr: { type, active: false, kind: 'primary' as const, recordLba: 0 },
  })

  it.each([
    ['a boot partition by its loader', 7, { '/bootmgr': pattern(9) }, 'boot'],
    ['a Linux boot partition by its menu', 0x83, { '/grub/grub.cfg': pattern(9) }, 'boot'],
    ['a recovery partition by its image', 7, { '/Recovery/WindowsRE/Winre.wim': pattern(9) }, 'recovery'],
    ['a recovery partition by its type', 0x27, { '/x': pattern(9) }, 'recovery'],
    ['data by default', 7, { '/x': pattern(9) }, 'data'],
    ['a container', 0x0f, {}, 'extended'],
    ['swap by its type', 0x82, {}, 'swap'],
  ])('%s', async (_what, type, files, role) => {
    const found = await roleOf(entry(type), { fileSystem: volumeWith(files) })
    expect(found).toBe(role)
  })

  it('says which get a drive letter', () => {
    expect([hasLetter(entry(7), 'data'), hasLetter(entry(0x17), 'data'), hasLetter(entry(7), 'boot')]).toEqual([
      true,
      false,
      false,
    ])
  })
})
