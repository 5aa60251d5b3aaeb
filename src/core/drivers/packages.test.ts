import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { stringToUtf16 } from '../bytes/struct'
import { openFileSystem } from '../filesystem'
import { formatFat32 } from '../filesystem/fat/format'
import { pattern, utf8 } from '../testing'
import { readInf } from './inf'
import { makeInf } from './make'
import { idsServing, packageFor } from './device'
import { driversIn } from './packages'

const MIB = 1024 * 1024
const INF = makeInf({
  kind: 'storage',
  provider: 'Tramonto',
  name: 'Tramonto ST9 storage controller',
  service: 'trmst9',
  hardwareIds: ['PCI\\VEN_1F5C&DEV_09A1', 'PCI\\VEN_1F5C&DEV_09A2'],
  date: '03/11/2025',
  version: '2.4.1.0',
})

async function stick(files: Record<string, Uint8Array>) {
  const device = new MemoryDevice(64 * MIB)
  const list = Object.entries(files).map(([path, content]) => ({ path, content }))
  await formatFat32(device, { label: 'RESCUE', serial: 1, startSector: 0, files: list })
  return (await openFileSystem(device))!
}

const folderOf = async (files: Record<string, Uint8Array>) => driversIn(await stick(files))
const packagesOf = async (files: Record<string, Uint8Array>) => (await folderOf(files)).packages

describe('a setup information file', () => {
  it('is read with its remarks, texts, quotes and lines that go on', () => {
    const inf = readInf(
      utf8(
        '; made up\r\n[Version]\r\nSignature = "$Windows NT$" ; mark\r\nProvider=%who%\r\n[One]\r\nlist = a, "b, c; d", \\\r\n  e\r\nplain,%who%\r\n[Strings]\r\nwho = "Tramonto"\r\n',
      ),
    )
    expect(inf.get('version')).toEqual([
      { key: 'Signature', values: ['$Windows NT$'] },
      { key: 'Provider', values: ['Tramonto'] },
    ])
    expect(inf.get('one')).toEqual([
      { key: 'list', values: ['a', 'b, c; d', 'e'] },
      { key: '', values: ['plain', 'Tramonto'] },
    ])
  })

  it('is read in UTF-16 too', () => {
    const bytes = Uint8Array.of(0xff, 0xfe, ...stringToUtf16('[Version]\nClass=SCSIAdapter\n'))
    expect(readInf(bytes).get('version')).toEqual([{ key: 'Class', values: ['SCSIAdapter'] }])
  })

  it('that is anything else is read as far as it goes', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 400 }), (bytes) => void readInf(bytes)),
      { numRuns: 300 },
    )
    fc.assert(
      fc.property(fc.nat(INF.length - 1), fc.string({ maxLength: 4 }), (at, put) => {
        readInf(utf8(INF.slice(0, at) + put + INF.slice(at + put.length)))
      }),
      { numRuns: 300 },
    )
  })
})

describe('a folder of drivers', () => {
  it('gives the storage drivers in it, wherever in it they lie', async () => {
    const found = await packagesOf({
      '/drivers/Tramonto T9/storage/trmst9.inf': utf8(INF),
      '/drivers/Tramonto T9/storage/TRMST9.SYS': pattern(5000, 3),
      '/drivers/read me.txt': utf8('nothing'),
    })
    expect(found).toHaveLength(1)
    expect(found[0]).toMatchObject({
      folder: '/drivers/Tramonto T9/storage',
      inf: 'trmst9.inf',
      name: 'Tramonto ST9 storage controller',
      version: '03/11/2025, 2.4.1.0',
      service: 'trmst9',
      sizeBytes: 5000,
      hardwareIds: ['PCI\\VEN_1F5C&DEV_09A1', 'PCI\\VEN_1F5C&DEV_09A2'],
    })
    expect(await found[0].read()).toEqual(pattern(5000, 3))
  })

  it.each<[string, Record<string, Uint8Array>, RegExp | undefined]>([
    ['without the driver beside it', { '/drivers/trmst9.inf': utf8(INF) }, /trmst9\.sys is not beside it/],
    [
      'with an empty driver',
      { '/drivers/trmst9.inf': utf8(INF), '/drivers/trmst9.sys': new Uint8Array() },
      /trmst9\.sys is not beside it/,
    ],
    [
      'of a service whose name leads elsewhere',
      { '/drivers/trmst9.inf': utf8(INF.replaceAll('trmst9', '..\\x')), '/drivers/trmst9.sys': pattern(10, 1) },
      /names no driver/,
    ],
    ['that is cut short', { '/drivers/trmst9.inf': utf8(INF.slice(0, 300)) }, /names no driver/],
    ['that says nothing of itself', { '/drivers/trmst9.inf': utf8('; empty') }, /does not say what it is for/],
    [
      'for a printer, which is no matter of this',
      { '/drivers/p.inf': utf8(INF.replace('4D36E97B', '4D36E979')) },
      undefined,
    ],
    ['elsewhere on the stick', { '/trmst9.inf': utf8(INF), '/trmst9.sys': pattern(10, 1) }, undefined],
    ['of nothing', {}, undefined],
  ])('says why it does not use a package %s', async (_what, files, why) => {
    const { packages, unusable } = await folderOf(files)
    expect(packages).toEqual([])
    expect(unusable.map((one) => one.path)).toEqual(why ? ['/drivers/trmst9.inf'] : [])
    if (why) expect(unusable[0].why).toMatch(why)
  })

  it('gives the driver for a device by what that says that it is, and not by its name', async () => {
    const two = INF.replace(
      '%Device% = Install, PCI\\VEN_1F5C&DEV_09A2',
      '%Device% = Second, PCI\\VEN_1F5C&DEV_0B00&SUBSYS_00011F5C',
    ).replace(
      '[Service]',
      '[Second.NTamd64.Services]\r\nAddService = second, 2, Other\r\n[Other]\r\nServiceBinary = %12%\\second.sys\r\n[Service]',
    )
    const packages = await packagesOf({
      '/drivers/both.inf': utf8(two),
      '/drivers/trmst9.sys': pattern(10, 1),
      '/drivers/second.sys': pattern(20, 2),
    })
    const forId = (deviceId: string, drivers: string[] = []) =>
      packageFor(packages, 'storage', { deviceId, drivers })?.service
    expect(packages.map((p) => p.service).sort()).toEqual(['second', 'trmst9'])
    expect(forId('pci\\ven_1f5c&dev_09a1&subsys_12345678&rev_01')).toBe('trmst9')
    // Named more narrowly than the device is: another board may need another driver.
    expect(forId('PCI\\VEN_1F5C&DEV_0B00')).toBeUndefined()
    expect(forId('PCI\\VEN_1F5C&DEV_0B00&SUBSYS_00011F5C', ['trmst9'])).toBe('second')
    expect(forId('PCI\\VEN_1F5C&DEV_09A3', ['trmst9'])).toBeUndefined()
    expect(packageFor(packages, 'storage', { drivers: ['TRMST9'] })?.service).toBe('trmst9')
    expect(packageFor(packages, 'network', { drivers: ['trmst9'] })).toBeUndefined()
  })

  it.each([
    ['PCI\\VEN_1F5C&DEV_09A1', true],
    ['pci\\ven_1f5c&dev_09a1&rev_02', true],
    ['PCI\\VEN_1F5C&DEV_09A1&SUBSYS_00091F5C', true],
    ['PCI\\VEN_1F5C', true],
    ['PCI\\VEN_1F5C&DEV_09A', false],
    ['PCI\\VEN_1F5C&DEV_09A1&REV_03', false],
    ['PCI\\VEN_1F5C&DEV_09A1&SUBSYS_00091F5C&REV_02&MORE', false],
    ['', false],
  ])('that names %j serves a device of that board and revision: %s', (id, serves) => {
    expect(idsServing([id], 'PCI\\VEN_1F5C&DEV_09A1&SUBSYS_00091F5C&REV_02')).toEqual(serves ? [id] : [])
  })

  it('of damaged texts never gives more than what is whole', async () => {
    await fc.assert(
      fc.asyncProperty(fc.nat(INF.length - 1), fc.nat(40), async (at, length) => {
        const inf = INF.slice(0, at) + INF.slice(at + length)
        const found = await packagesOf({ '/drivers/a.inf': utf8(inf), '/drivers/trmst9.sys': pattern(10, 1) })
        for (const { service } of found) expect(service).toBe('trmst9')
      }),
      { numRuns: 60 },
    )
  })
})
