import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

import { makeHoneyHouseDisk, ORDERS } from '@/bench/scenario/disks/honey-house'
import { HONEY_HOUSE, HONEY_HOUSE_BENCH } from '@/bench/scenario/things'
import { type BlockDevice, readBytes } from '@/core/block/device'
import { FaultyDevice } from '@/core/block/faulty'
import { MemoryDevice } from '@/core/block/memory'
import { MIB } from '@/core/bytes/size'
import { planCopy } from '@/core/copy/plan'
import { runCopy } from '@/core/copy/run'
import { readOnly } from '@/core/block/readonly'
import { lentDescription } from '@/core/lent/plate'
import { berthOf } from '@/core/things/bench'
import { blake3 } from '@/host/strong-digest'
import { nbdUri } from '@/nbd/address'
import { keyOfCode, newCode } from '@/nbd/key'
import { Lender, type LenderOptions } from '@/nbd/lender'
import { linkTo } from '@/nbd/testing'
import { database } from '@/server/database'
import { MoveRow } from '@/server/database/models'
import { refusalCode } from '@/server/ground/testing'
import { loadMove } from '@/server/moves'
import { latestCopy } from '@/server/moves/copies'
import { loadLeg } from '@/server/moves/legs'
import { newMove } from '@/server/moves/change'
import { lend as lendOn } from '@/server/pages/lent'
import { askAgain, borrow, borrowedState, endBorrowing, giveBack } from '@/server/pages/lent/borrow'
import { changePace, commandCopy } from '@/server/stations/copy'
import { lockFit } from '@/server/stations/fit'
import { resumeCopy } from '@/server/stations/ready/start'
import { takeRoute } from '@/server/stations/route'
import { benchState, driveById, placeDrive, withDrive } from '@/server/world'
import { removeThing, saveComputer } from '@/server/world/things'
import { carryOn, copyEnds, copyLeg, handsTo, plansOf, startLeg, toRoute, untilCopied } from '../support/carry-out'
import { openDemoBench } from '../support/open-demo-bench'

vi.setConfig({ testTimeout: 300_000 })

const [DRIVE] = HONEY_HOUSE_BENCH.drives
const code = newCode()
let disk: MemoryDevice

beforeAll(async () => {
  await openDemoBench()
  await changePace('max')
  // The shop knows the drive of the demo from the start; here it is borrowed by hand.
  await MoveRow.destroy({ where: { id: 'honey-house' } })
  await giveBack({ driveId: DRIVE.id })
  disk = new MemoryDevice(DRIVE.sizeBytes)
  await makeHoneyHouseDisk(disk)
})

afterAll(async () => {
  await (await database()).close()
})

/** The honey house lends its disk at a port, by the same code each time. */
function lend(options: Partial<LenderOptions> & { device?: BlockDevice; writable?: boolean } = {}): Promise<Lender> {
  const { device = readOnly(disk), writable = false, ...rest } = options
  const [laptop] = HONEY_HOUSE_BENCH.computers
  return Lender.listen(
    { name: 'disk', description: lentDescription(DRIVE, HONEY_HOUSE.name, laptop), device, writable },
    { host: '127.0.0.1', port: 0, key: keyOfCode(code), allow: async () => true, ...rest },
  )
}

const uriAt = (port: number) => nbdUri({ tls: true, host: '127.0.0.1', port, exportName: 'disk', identity: 'imbarco' })

const borrowedNow = async () => (await borrowedState()).borrowed
const untilBorrowed = (state: string) =>
  vi.waitUntil(async () => (await borrowedNow()).find((b) => b.state === state), { timeout: 30_000 })

describe('a drive that another bench lends', () => {
  it('is asked for by address and code, and is on the bench once there is a yes', async () => {
    expect(await refusalCode(borrow({ address: 'nbds://127.0.0.1/disk' }))).toBe('borrow-refused')
    expect(await refusalCode(borrow({ address: 'http://127.0.0.1/disk', code }))).toBe('borrow-refused')
    expect(await refusalCode(borrow({ address: 'nbds://127.0.0.1/disk', code: 'ABC' }))).toBe('borrow-refused')
    const asks: ((yes: boolean) => void)[] = []
    const lender = await lend({ allow: () => new Promise((answer) => asks.push(answer)) })
    const address = uriAt(lender.address.port)
    await borrow({ address, code: newCode() })
    const refused = await vi.waitUntil(async () => (await borrowedState()).asked.find((a) => a.state === 'refused'))
    expect(refused!.why).toMatch(/this key/)
    await borrow({ address, code })
    await vi.waitUntil(async () => (await borrowedState()).asked.some((a) => a.state === 'asked'))
    expect(await refusalCode(borrow({ address, code }))).toBe('borrow-asked')
    expect(await borrowedNow()).toEqual([])
    await vi.waitUntil(() => asks.length === 1)
    asks[0](false)
    await vi.waitUntil(async () => (await borrowedState()).asked.some((a) => /not allowed/.test(a.why)))
    await borrow({ address, code })
    const { asked } = await borrowedState()
    expect(asked).toHaveLength(1)
    await vi.waitUntil(async () => (await borrowedState()).asked.some((a) => a.state === 'asked'))
    await vi.waitUntil(() => asks.length === 2)
    asks[1](true)
    const found = await untilBorrowed('here')
    expect(found).toMatchObject({ name: 'Ostrica S1 256 GB', bench: 'Miele e Cera', writable: false, isThere: true })
    const bench = await benchState()
    const drive = await driveById(found!.driveId)
    expect(drive).toMatchObject({ serial: DRIVE.serial, sizeBytes: DRIVE.sizeBytes, health: DRIVE.health })
    // It sits in the laptop, which this bench knows as one of the other's.
    expect(berthOf(drive, bench)).toMatchObject({
      ...{ name: 'Miele e Cera, honey-house laptop, SATA 0', link: 'ethernet-1' },
    })
    expect(bench.computers.filter((c) => c.farBenchId !== undefined)).toHaveLength(1)
    await vi.waitUntil(async () => ((await borrowedNow())[0].bytesPerSecond ?? 0) > 1e6, { timeout: 30_000 })
    expect(await refusalCode(borrow({ address, code }))).toBe('borrowed-already')
    // What it is at stays as it is meanwhile, and it is nobody's here to put elsewhere or to lend on.
    expect(await refusalCode(removeThing({ kind: 'accessory', id: HONEY_HOUSE.id }))).toBe('bench-lends')
    const laptop = bench.computers.find((c) => c.farBenchId !== undefined)!
    expect(await refusalCode(saveComputer({ ...laptop, farBenchId: undefined }))).toBe('computer-with-lent')
    const bay = { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 2' } as const
    expect(await refusalCode(placeDrive(drive.id, bay))).toBe('drive-stays')
    const on = { subject: { kind: 'drives', id: drive.id }, address: '127.0.0.1' }
    expect(await refusalCode(lendOn(on))).toBe('lent-on')
    await lender.close()
    await untilBorrowed('away')
    await giveBack({ driveId: drive.id })
    expect(await borrowedNow()).toEqual([])
    expect((await benchState()).drives.some((d) => d.id === drive.id)).toBe(false)
  })

  it('is asked for no more where nobody answers', async () => {
    const lender = await lend({ allow: () => new Promise(() => {}) })
    const id = await borrow({ address: uriAt(lender.address.port), code })
    await vi.waitUntil(async () => (await borrowedState()).asked.some((a) => a.state === 'asked'))
    await endBorrowing({ id })
    expect((await borrowedState()).asked).toEqual([])
    await vi.waitUntil(() => lender.borrowers.length === 0)
    expect(await refusalCode(endBorrowing({ id }))).toBe('borrow-ended')
    expect(await refusalCode(askAgain({ driveId: 'crv5-960' }))).toBe('drive-not-lent')
    await lender.close()
  })
})

/** Borrows the disk over a link that can be cut, and takes a move of it up to where its copy starts. */
async function movedOver(link: { port: number }) {
  await borrow({ address: uriAt(link.port), code })
  const { driveId } = (await untilBorrowed('here'))!
  const moveId = await newMove({
    ...{ name: 'Honey house', customer: 'Beekeepers’ co-op', reason: 'more room', computerId: 'honey-laptop' },
    ...{ pairs: [{ sourceId: driveId, targetId: 'tln1-1000' }], toVirtualMachine: false, targetComputerId: null },
    ...{ images: [], backup: null, promised: '' },
  })
  await toRoute(moveId)
  return { driveId, moveId }
}

describe('a move of it', () => {
  it('goes over the network, with its link cut ten times and its lender killed, and is equal', async () => {
    // Three sectors of a file that its drive does not give, which is told over the network.
    const bad = { firstLba: await lbaOf(ORDERS.subarray(4096 * 9)), count: 3 }
    const failing = new FaultyDevice(readOnly(disk), [bad])
    let lender = await lend({ device: failing })
    const { port } = lender.address
    const link = await linkTo(port)
    const { driveId, moveId } = await movedOver(link)
    const plans = await plansOf(moveId)
    expect(plans[0].title).toMatch(/Over the network from Miele e Cera/)
    await takeRoute(moveId, { plan: plans[0].id })
    await lockFit(moveId, { pair: 0, wish: { rules: {}, sizes: {}, reserve: 0 } })
    await handsTo(moveId)
    const leg = await startLeg(moveId)
    // Some cuts while it is looked at once more, the others while it is copied.
    for (let cuts = 0; cuts < 10; cuts++) {
      if (cuts === 3) await untilCopied(moveId, leg)
      await link.untilMoved(2_000_000)
      link.cut()
    }
    await link.untilMoved(1_000_000)
    await lender.close()
    link.setCut(true)
    const waits = await vi.waitUntil(
      async () => {
        const copy = await latestCopy(moveId, leg)
        return copy?.status === 'paused' ? copy : undefined
      },
      { timeout: 20_000, interval: 100 },
    )
    expect(waits!.waitsFor).toMatch(/no connection to the bench that lends the Ostrica S1 256 GB/)
    // It can be stopped meanwhile, and is resumed from what was sure once the drive is there again.
    await commandCopy(moveId, { command: 'stop' })
    expect(await copyEnds(moveId, leg)).toMatchObject({ status: 'stopped', resumable: true })
    expect(await refusalCode(resumeCopy(moveId))).toBe('drive-not-here')
    lender = await lend({ port, device: failing })
    link.setCut(false)
    await untilBorrowed('here')
    await resumeCopy(moveId)
    await link.untilMoved(100_000)
    link.cut()
    const copy = await copyEnds(moveId, leg)
    expect(copy).toMatchObject({
      ...{ status: 'done', summary: { lost: [{ sourceLba: bad.firstLba, sectors: 3 }] } },
    })
    expect(copy.summary!.lost[0].files).toEqual(['/Orders/2026/open orders.csv'])
    await withDrive(await driveById('tln1-1000'), async (target) => expectCopied(moveId, failing, target))
    const end = await carryOn(moveId)
    expect(end.trial.trace.starts).toBe(true)
    await link.close()
    await lender.close()
    // Its old drive is in hands now, and is read from there no more.
    const bench = await benchState()
    expect(berthOf(await driveById(driveId), bench).link).toBeUndefined()
  })

  it('whose target another bench lends writes there, and what is written is checked where it lies', async () => {
    await MoveRow.destroy({ where: { id: 'survey-office' } })
    const target = new MemoryDevice(256_060_514_304)
    const moved = { readBytes: 0, writtenBytes: 0 }
    const there = { ...DRIVE, model: 'Tellina T1', serial: 'TLN1-0990-3WK8', sizeBytes: target.size }
    const kitchen = { ...HONEY_HOUSE_BENCH.computers[0], name: 'kitchen laptop' }
    const lender = await Lender.listen(
      {
        ...{ name: 'disk', description: lentDescription(there, HONEY_HOUSE.name, kitchen) },
        ...{ device: target, writable: true, digest: blake3 },
      },
      {
        ...{ host: '127.0.0.1', port: 0, key: keyOfCode(code), allow: async () => true },
        onEvent: (event) => {
          if (event.type !== 'ended') return
          moved.readBytes += event.borrower.readBytes
          moved.writtenBytes += event.borrower.writtenBytes
        },
      },
    )
    await borrow({ address: uriAt(lender.address.port), code })
    const { driveId, writable } = (await vi.waitUntil(async () =>
      (await borrowedNow()).find((b) => b.state === 'here' && b.name.startsWith('Tellina')),
    ))!
    expect(writable).toBe(true)
    const moveId = await newMove({
      ...{ name: 'Kitchen', customer: 'Beekeepers’ co-op', reason: 'another computer', computerId: 'surveyor-old' },
      ...{ pairs: [{ sourceId: 'oss1-128', targetId: driveId }], toVirtualMachine: false },
      ...{ targetComputerId: 'kitchen-laptop', images: [], backup: null, promised: '' },
    })
    await toRoute(moveId)
    const plan = (await plansOf(moveId)).find((p) => p.title === 'Over the network to Miele e Cera')!
    await takeRoute(moveId, { plan: plan.id })
    await lockFit(moveId, { pair: 0, wish: { rules: {}, sizes: {}, reserve: 0 } })
    await handsTo(moveId)
    Object.assign(moved, { readBytes: 0, writtenBytes: 0 })
    const copy = await copyLeg(moveId)
    expect(copy.summary!.checkedBytes).toBe(copy.summary!.copiedBytes)
    await withDrive(await driveById('oss1-128'), async (source) => expectCopied(moveId, source, target))
    await vi.waitUntil(() => moved.writtenBytes > 10e6)
    expect(moved.readBytes).toBeLessThan(moved.writtenBytes / 2)
    await lender.close()
  })
})

/** Where on the disk some content lies, from its first sector on. */
async function lbaOf(content: Uint8Array): Promise<number> {
  const first = Buffer.from(content.subarray(0, 512))
  for (const { offset, length } of await disk.mapped(0, disk.size)) {
    const at = Buffer.from(await readBytes(disk, offset, length)).indexOf(first)
    if (at >= 0) return (offset + at) / 512
  }
  throw new Error('It is not on the disk.')
}

/** What is on a target is what a copy of the same source by the same layout writes here. */
async function expectCopied(moveId: string, source: BlockDevice, target: BlockDevice): Promise<void> {
  const { layout } = await loadLeg(await loadMove(moveId), 0)
  const here = new MemoryDevice(target.size)
  await runCopy(await planCopy(source, layout), here, { digest: blake3, note: 'here', onStep: async () => {} })
  const [ours, theirs] = [new Uint8Array(MIB), new Uint8Array(MIB)]
  for (let at = 0; at < target.size; at += MIB) {
    const length = Math.min(MIB, target.size - at)
    const holds = await Promise.all([here, target].map((device) => device.mapped!(at, length)))
    if (holds.every((extents) => extents.length === 0)) continue
    await here.read(at, ours.subarray(0, length))
    await target.read(at, theirs.subarray(0, length))
    if (Buffer.compare(ours, theirs) !== 0) expect.fail(`The mebibyte from byte ${at} on differs.`)
  }
}
