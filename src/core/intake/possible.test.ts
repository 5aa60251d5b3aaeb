import { describe, expect, it } from 'vitest'
import { type MoveFacts, whyNotYet } from './possible'

const drive = (sizeBytes: number) => ({ name: 'Corvina S3 240 GB', sizeBytes, hasBytes: true, encrypted: false })
const possible: MoveFacts = {
  firmwareMode: 'uefi',
  sourceDrives: [drive(240)],
  target: { ...drive(960), adapter: true },
  toVirtualMachine: false,
  toOtherComputer: false,
}

describe('what can be moved', () => {
  it('is one UEFI drive to a larger one', () => {
    expect(whyNotYet(possible)).toBeUndefined()
  })

  it.each<[string, Partial<MoveFacts>, RegExp]>([
    ['a BIOS system', { firmwareMode: 'bios' }, /BIOS and MBR/],
    ['two drives', { sourceDrives: [drive(1), drive(2)] }, /several drives/],
    ['a virtual machine', { toVirtualMachine: true }, /virtual machine/],
    ['another computer', { toOtherComputer: true }, /storage controller/],
    ['an encrypted volume', { sourceDrives: [{ ...drive(240), encrypted: true }] }, /encrypted/],
    ['a smaller target', { target: { ...drive(100), adapter: true } }, /smaller/],
    ['a target no adapter takes', { target: { ...drive(960), adapter: false } }, /No adapter/],
    ['no target', { target: undefined }, /no target/],
    ['drives without bytes', { target: { ...drive(960), hasBytes: false, adapter: true } }, /only described/],
  ])('is not %s, and says so', (_what, changes, reason) => {
    expect(whyNotYet({ ...possible, ...changes })).toMatch(reason)
  })
})
