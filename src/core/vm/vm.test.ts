import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { GIB, MIB } from '../bytes/size'
import { CoreError } from '../errors'
import { solveFit } from '../fit/solve'
import { surveyDrive } from '../survey/survey'
import { makeSystemDisk, sha256 } from '../testing-disk'
import { manifestOf, ovfOf, type PackedDisk, readManifest, readOvf } from './ovf'
import type { DiskFormat } from '../things/accessory'
import { diskFormatFor, mostBytesOf } from './disk-format'
import { proposeMachine } from './propose'
import { CONTROLLERS, type VirtualMachine } from './types'

const name = fc.string({ unit: 'grapheme-composite', minLength: 1, maxLength: 30 }).filter((text) => {
  const trimmed = text.trim()
  return trimmed === text && trimmed.length > 0 && !/[\p{C}\p{Z}]/u.test(text)
})
const machines: fc.Arbitrary<VirtualMachine> = fc
  .record({
    name,
    firmware: fc.constantFrom('uefi' as const, 'bios' as const),
    secureBoot: fc.boolean(),
    least: fc.integer({ min: 1, max: 100_000 }),
    more: fc.integer({ min: 0, max: 100_000 }),
    processors: fc.integer({ min: 1, max: 64 }),
    controllers: fc.array(fc.constantFrom(...CONTROLLERS), { minLength: 1, maxLength: 4 }),
    cards: fc.array(fc.record({ name, connected: fc.boolean(), vlan: fc.integer({ min: 0, max: 4094 }) }), {
      maxLength: 4,
    }),
  })
  .map(({ least, more, controllers, cards, ...rest }) => ({
    ...rest,
    memory: { leastBytes: least * MIB, mostBytes: (least + more) * MIB },
    disks: controllers.map((controller, place) => ({
      file: `disk${place + 1}.vmdk`,
      sizeBytes: (place + 1) * GIB + 512,
      controller,
      place,
    })),
    networkCards: cards,
  }))

const packedOf = ({ disks }: VirtualMachine): PackedDisk[] =>
  disks.map(({ file }) => ({ file, fileBytes: 1000, format: 'vmdk-stream', populatedBytes: 500 }))

describe('the descriptor of a package', () => {
  it('gives back the machine that was written', () => {
    fc.assert(
      fc.property(machines, (machine) => {
        expect(readOvf(ovfOf(machine, packedOf(machine)))).toEqual({ machine, assumed: [] })
      }),
    )
  })

  it('that is cut, changed or something else ends in a sentence of ours, or in a machine', () => {
    const whole = ovfOf(fc.sample(machines, { seed: 7, numRuns: 1 })[0], [])
    fc.assert(
      fc.property(fc.nat(whole.length), fc.string({ maxLength: 20 }), fc.boolean(), (at, text, cut) => {
        const changed = cut ? whole.slice(0, at) : whole.slice(0, at) + text + whole.slice(at + text.length)
        try {
          readOvf(changed)
        } catch (error) {
          if (!(error instanceof CoreError)) throw error
        }
      }),
      { numRuns: 400 },
    )
  })

  it.each([
    [
      'a file outside of its folder',
      (text: string) => text.replace('disk1.vmdk', '../../etc/passwd'),
      /outside of its folder/,
    ],
    ['an absolute name', (text: string) => text.replace('disk1.vmdk', '/etc/passwd'), /outside of its folder/],
    [
      'a disk that it does not have',
      (text: string) => text.replace('ovf:/disk/disk1', 'ovf:/disk/none'),
      /does not have/,
    ],
    [
      'a file that it does not name',
      (text: string) => text.replace('ovf:fileRef="file1"', 'ovf:fileRef="x"'),
      /does not have/,
    ],
    [
      'types of its own',
      (text: string) => text.replace('<Envelope', '<!DOCTYPE x [<!ENTITY a "b">]><Envelope'),
      /declares types/,
    ],
    ['no processor', (text: string) => text.replace(/>3</, '>99<'), /processors/],
  ])('with %s is refused', (_what, change, sentence) => {
    const [machine] = fc.sample(machines, { seed: 11, numRuns: 1 })
    const text = ovfOf(machine, packedOf(machine))
    const changed = change(text)
    expect(changed).not.toBe(text)
    expect(() => readOvf(changed)).toThrow(sentence)
  })

  it('has a manifest that names each file with its digest', () => {
    const digests = ['a.ovf', 'a b.vmdk'].map((file, i) => ({ file, sha256: `${i}`.repeat(64) }))
    const read = readManifest(manifestOf(digests))
    expect(read).toEqual(digests.map(({ file, sha256: digest }) => ({ file, algorithm: 'SHA256', digest })))
    expect(() => readManifest('SHA256(a)= short\n')).toThrow(/line that is none/)
  })
})

describe('a virtual machine for the drives of a computer', () => {
  it('starts as the disk tells, at a controller whose driver starts early, and says why', async () => {
    const survey = await surveyDrive(await makeSystemDisk(), sha256)
    const driver = (of: string, start: number | undefined, fileBytes: number | undefined) => ({
      ...{ name: of, key: of, known: start !== undefined, start, path: '', fileBytes },
    })
    const question = { name: 'Desk', drives: [{ survey, file: 'a.vmdk' }] }
    const early = proposeMachine({ ...question, drivers: [driver('stornvme', 3, 100), driver('storahci', 0, 100)] })
    expect(early.machine).toMatchObject({ firmware: 'uefi', disks: [{ controller: 'sata', place: 0 }] })
    expect(early.obstacles).toEqual([])
    expect(early.machine.networkCards.every((card) => !card.connected)).toBe(true)
    const late = proposeMachine({
      ...question,
      drivers: [driver('stornvme', 3, 100), driver('storahci', undefined, undefined)],
    })
    expect([late.machine.disks[0].controller, late.obstacles.length]).toEqual(['nvme', 1])
    const none = proposeMachine({ ...question, drivers: [driver('storahci', 0, undefined)] })
    expect(none.obstacles[0]).toMatch(/brought in/)
    const fitted = solveFit(
      survey,
      { sizeBytes: survey.sizeBytes, logicalSectorSize: 512 },
      { rules: {}, sizes: {}, reserve: 0, leaveOut: [1] },
    )
    expect(fitted.fits).toBe(true)
    const without = { ...survey, partitions: survey.partitions.filter((p) => p.role !== 'boot') }
    const headless = proposeMachine({ name: 'Desk', drives: [{ survey: without, file: 'a.vmdk' }], drivers: undefined })
    expect(headless.obstacles[0]).toMatch(/boot partition/)
  })

  it('has disks in the best format that its host takes and that holds them', () => {
    const TIB = 1024 * GIB
    const of = (diskFormats: DiskFormat[], sizeBytes: number) => diskFormatFor({ name: 'host', diskFormats }, sizeBytes)
    expect(of(['vhd', 'vhdx'], GIB)).toEqual({ format: 'vhdx', reason: 'Its disks are VHDX, which the host takes.' })
    expect(of(['qcow2', 'vhd'], GIB)).toEqual({
      format: 'vhd',
      reason: 'Its disks are VHD, since the host takes no VHDX.',
    })
    const large = of(['vhd', 'raw'], 3 * TIB)
    expect(large.format).toBe('raw')
    expect(large.reason).toMatch(/takes no VHDX, and a VHD ends at 2040 GiB/)
    // Where none holds it, the disk becomes smaller.
    expect(of(['vhd'], 3 * TIB).format).toBe('vhd')
    expect(of(['vhd'], 3 * TIB).reason).toMatch(/Fit makes it smaller/)
    expect(of(['vmdk', 'qcow2'], GIB).reason).toMatch(/takes none of VHDX, VHD and raw\. Nothing is repaired in QCOW2/)
    expect(mostBytesOf('vhd')).toBe(2040 * GIB)
  })
})
