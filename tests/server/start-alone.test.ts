import { mkdirSync } from 'node:fs'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

import { readBytes } from '@/core/block/device'
import type { MemoryDevice } from '@/core/block/memory'
import { BROKEN_DISKS } from '@/core/repair/testing'
import { makeLinuxDisk, makeSystemDisk } from '@/core/testing-disk'
import { database } from '@/server/database'
import { imagesFolder } from '@/server/ground/paths'
import { refusalCode } from '@/server/ground/testing'
import { jobEnd, type StartedJob } from '@/server/jobs'
import { repairSubject, startView, undoSubjectRepair } from '@/server/pages/start'
import { moveSystem, systemForm } from '@/server/stations/intake/from-disk'
import { benchState } from '@/server/world'
import { putOnBench } from '@/server/world/image-drives'
import { openDemoBench } from '../support/open-demo-bench'
import { digestOfFile, sparseFile } from '../support/image-files'
import { deep } from '@/core/testing'

vi.setConfig({ testTimeout: 120_000 })

async function image(name: string, device: MemoryDevice): Promise<string> {
  const parts: [number, Uint8Array][] = []
  for (const { offset, length } of await device.mapped(0, device.size))
    parts.push([offset, await readBytes(device, offset, length)])
  return sparseFile(path.join(imagesFolder(), name), device.size, parts)
}

const of = (id: string) => ({ kind: 'images' as const, id })
const ended = async (started: Promise<StartedJob>) => jobEnd((await started).id)

beforeAll(async () => {
  await openDemoBench()
  mkdirSync(imagesFolder(), { recursive: true })
})

afterAll(async () => {
  await (await database()).close()
})

describe('the start of an image alone', () => {
  // Each of them is followed and mended in the core's own tests; here it is the way over the server.
  it.each(BROKEN_DISKS.map(([what, ...rest], i) => [what, i, ...rest] as const).filter(([, i]) => deep || i % 3 === 0))(
    'names the link that %s breaks, mends it, and takes that back',
    async (_what, i, link, repair, firmware, make, damage) => {
      const name = `broken ${i}.img`
      const device = await make()
      await damage(device)
      const file = await image(name, device)
      const before = digestOfFile(file)
      const told = await startView(of(name), {})
      expect([told.mode, told.chosen, told.whyShownOnly]).toEqual([firmware.mode, null, null])
      const failed = told.trace.links.find((l) => l.state === 'failed')
      expect([failed?.id, told.offered.map((r) => [r.name, r.why])]).toEqual([link, [[repair, null]]])
      expect(digestOfFile(file)).toBe(before)
      expect(await ended(repairSubject({ subject: of(name), repair }))).toMatchObject({ state: 'done' })
      let now = await startView(of(name), {})
      // Another signature is also what the letters were kept by.
      if (!now.trace.starts) {
        expect(now.offered.map((r) => r.name)).toEqual(['drive-letters'])
        await ended(repairSubject({ subject: of(name), repair: 'drive-letters' }))
        now = await startView(of(name), {})
      }
      expect(now.trace.starts).toBe(true)
      expect(now.made.length).toBeGreaterThan(0)
      // A repair that changes nothing is none.
      expect(await ended(repairSubject({ subject: of(name), repair }))).toMatchObject({ state: 'failed' })
      for (let i = 0; i < now.made.length; i++)
        expect(await ended(undoSubjectRepair({ subject: of(name) }))).toMatchObject({ state: 'done' })
      expect(digestOfFile(file)).toBe(before)
      expect((await startView(of(name), {})).made).toEqual([])
      expect(await ended(undoSubjectRepair({ subject: of(name) }))).toMatchObject({ state: 'failed' })
    },
  )

  it('is told by the disk, or by who asks', async () => {
    await image('told.img', await makeSystemDisk())
    expect(await startView(of('told.img'), {})).toMatchObject({ mode: 'uefi', trace: { starts: true } })
    expect(await startView(of('told.img'), { firmware: 'bios' })).toMatchObject({
      mode: 'bios',
      trace: { starts: false },
    })
    await image('linux.img', await makeLinuxDisk())
    expect(await startView(of('linux.img'), { firmware: 'nonsense' })).toMatchObject({ chosen: null, mode: 'uefi' })
    expect(await refusalCode(startView(of('none.img'), {}))).toBe('image-unknown')
  })

  it('is only shown of what is a way back, and of what is no raw image', async () => {
    const refused = (subject: { kind: 'drives' | 'images'; id: string }) =>
      refusalCode(repairSubject({ subject, repair: 'point-store' }))
    // The old drive of a move, its target, and an image of another form.
    expect(await refused({ kind: 'drives', id: 'crv3-240' })).toBe('repair-shown-only')
    expect(await refused({ kind: 'drives', id: 'crv5-960' })).toBe('repair-shown-only')
    expect(await refused(of('survey office 3 May.vhdx'))).toBe('repair-shown-only')
    expect(await startView({ kind: 'drives', id: 'crv3-240' }, {})).toMatchObject({
      mode: 'uefi',
      computer: { mode: 'uefi' },
      trace: { starts: true },
      whyShownOnly: expect.stringMatching(/\.$/),
    })
    // One that stands for a drive is repaired as that drive.
    await image('standing.img', await makeSystemDisk())
    const id = await putOnBench({ image: 'standing.img' })
    expect(await refused(of('standing.img'))).toBe('repair-shown-only')
    expect(await startView({ kind: 'drives', id }, {})).toMatchObject({ whyShownOnly: null })
  })
})

describe('a disk whose system is moved', () => {
  it('gets a computer as it tells, a new drive, and a move with both', async () => {
    await image('attic pc.img', await makeSystemDisk())
    const form = await systemForm(of('attic pc.img'))
    expect(form.proposal).toMatchObject({ name: 'Attic pc', mode: 'uefi' })
    expect(form).toMatchObject({ home: null, model: null })
    const wanted = {
      subject: of('attic pc.img'),
      kind: 'sata-ssd',
      computer: { from: 'new', name: 'Attic PC', mode: 'uefi', memoryGib: 8 },
      target: { from: 'new', kind: 'nvme', serial: 'NEW-0001', sizeBytes: 480e9 },
      ...{ name: 'Attic PC', customer: 'not named yet' },
    }
    const before = await benchState()
    // What contradicts itself leaves nothing behind.
    const twin = { ...wanted, target: { ...wanted.target, serial: 'CRV5-2207-4M1Q' } }
    expect(await refusalCode(moveSystem(twin))).toBe('serial-taken')
    expect(await benchState()).toEqual(before)
    const id = await moveSystem(wanted)
    expect(id).toBe('attic-pc')
    const bench = await benchState()
    const computer = bench.computers.find((c) => c.name === 'Attic PC')!
    expect(computer).toMatchObject({ firmware: { mode: 'uefi' }, mains: true, running: 'off' })
    const source = bench.drives.find((d) => d.image === 'attic pc.img')!
    expect(source.place).toEqual({ kind: 'slot', computerId: computer.id, slot: computer.homeSlot })
    expect(bench.drives.find((d) => d.serial === 'NEW-0001')).toMatchObject({
      protocol: 'PCIe',
      place: { kind: 'table' },
    })
    // The demo has a place for it outside, and a stick.
    expect(bench.accessories).toEqual(before.accessories)
    // Once more, its drive is another move's already.
    const again = { ...wanted, target: { from: 'bench', id: 'crv5-960' } }
    expect(await refusalCode(moveSystem(again))).toBe('drive-reserved')
  })
})
