import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

import type { BlockDevice } from '@/core/block/device'
import { SliceDevice } from '@/core/block/slice'
import { openFileSystem } from '@/core/filesystem'
import { fixedAddressesIn } from '@/core/registry/addresses'
import { Hive } from '@/core/registry/hive'
import { readScheme } from '@/core/scheme'
import { GIB } from '@/core/bytes/size'
import { type DiskFormat, isHost } from '@/core/things/accessory'
import type { Drive } from '@/core/things/drive'
import { planImage } from '@/core/copy/plan-whole'
import { surveyDrive } from '@/core/survey/survey'
import { compareDevices } from '@/core/image/compare'
import { makeSystemDisk, sha256 } from '@/core/testing-disk'
import { proposeMachine } from '@/core/vm/propose'
import { openPackage } from '@/host/open-package'
import { diskName, writePackage } from '@/host/package'
import { dataFolder, imagesFolder } from '@/server/ground/paths'
import { jobEnd } from '@/server/jobs'
import { openHostImage } from '@/host/images'
import { startImageJob } from '@/server/pages/images/jobs'
import { imagesOf, removeFromDrive } from '@/server/pages/images/on-drives'
import { database } from '@/server/database'
import { refusalCode } from '@/server/ground/testing'
import { ended } from '@/server/jobs/testing'
import { loadMove } from '@/server/moves'
import { latestCopy } from '@/server/moves/copies'
import { lockFit } from '@/server/stations/fit'
import { takeRoute } from '@/server/stations/route'
import { progressOf } from '@/server/moves/legs'
import { handOver } from '@/server/stations/handover'
import { sheetOf } from '@/server/stations/handover/sheet'
import { startTrial } from '@/server/stations/proof'
import { firstStart, takeFirstStartStep } from '@/server/stations/proof/first-start'
import { INTERFACE_OF_CARD } from '@/server/stations/proof/old-address'
import { makeRepair } from '@/server/stations/proof/repairs'
import { commandCopy } from '@/server/stations/copy'
import { resumeCopy } from '@/server/stations/ready/start'
import {
  benchState,
  changeComputer,
  computerById,
  driveById,
  driveBytes,
  placeByHand,
  placeDrive,
  withDrive,
} from '@/server/world'
import { surveyOf } from '@/server/world/looked-at'
import { switchComputer } from '@/server/world/computers'
import { saveAccessory } from '@/server/world/things'
import { openDemoBench } from '../support/open-demo-bench'
import { setPace } from '@/server/world/clock'
import { SERVER_ADDRESS, serverMove } from '../support/small-server'
import {
  carryOn,
  carryOut,
  copyEnd,
  copyEnds,
  copyLeg,
  handsTo,
  plansOf,
  startLeg,
  toRoute,
  untilCopied,
} from '../support/carry-out'
import { cutPartition, listFiles } from '../support/independent'

const folder = dataFolder()

// Moves that go by an image, from the first reading to a start from the new drive.

const SERVER = 'still-server'

vi.setConfig({ testTimeout: 400_000 })

beforeAll(async () => {
  await openDemoBench()
  await setPace('max')
})
afterAll(async () => {
  await (await database()).close()
})

describe('the survey office PC', () => {
  const MOVE = 'survey-office'
  const STORE = 'lmt4-4000'
  const IMAGE = 'Survey office PC OSS1-7741-2LM9.vhdx'

  /** Files in the root of the transfer drive's volume, by a driver that shares nothing with Imbarco. */
  const filesInStore = async () => {
    const { route } = (await loadMove(MOVE)).row
    const { offset, length } = route!.images[0].volume!
    const { file } = driveBytes(await driveById(STORE))
    const volume = cutPartition(
      file,
      { first: offset / 512, last: (offset + length) / 512 - 1 },
      path.join(folder, 'cut'),
    )
    return [...listFiles(volume).keys()].filter((name) => !name.includes('/'))
  }

  it('goes by an image on the transfer drive, which is stopped, loses its drive, and goes on', async () => {
    await toRoute(MOVE)
    const plan = (await plansOf(MOVE)).find((p) => /image@lmt4-4000/.test(p.id) && /^capture/.test(p.id))!
    expect(plan.notYet).toBeNull()
    await takeRoute(MOVE, { plan: plan.id })
    await lockFit(MOVE, { pair: 0, wish: { rules: {}, sizes: {}, reserve: 0 } })
    await handsTo(MOVE)
    // At the pace of the clock it takes a while, so that there is something to cut off.
    await setPace('30')
    await startLeg(MOVE)
    await untilCopied(MOVE, 0)
    await commandCopy(MOVE, { command: 'stop' })
    expect(await copyEnds(MOVE, 0)).toMatchObject({ status: 'stopped', resumable: true })
    expect(await filesInStore()).toContain(`${IMAGE}.unfinished`)
    await resumeCopy(MOVE)
    await untilCopied(MOVE, 0)
    const { place } = await driveById(STORE)
    await placeByHand(STORE, { kind: 'table' }, true)
    expect(await copyEnds(MOVE, 0)).toMatchObject({ status: 'interrupted', resumable: true })
    expect(await refusalCode(resumeCopy(MOVE))).toBe('not-ready-to-resume')
    await placeDrive(STORE, place)
    await setPace('max')
    await resumeCopy(MOVE, { recheck: 'every' })
    const { summary } = await copyEnd(MOVE, 0)
    expect(summary!.checkedBytes).toBe(summary!.copiedBytes)
    const files = await filesInStore()
    expect(files).toEqual(expect.arrayContaining([IMAGE, `${IMAGE}.record.json`, 'read me.txt']))
    expect(files.filter((name) => /unfinished/.test(name))).toEqual([])
    const { trial, copies } = await carryOn(MOVE)
    expect(copies.map((c) => c.status)).toEqual(['done'])
    expect(trial.subject).toBe('target')
  })
})

describe('images on a transfer drive', () => {
  const STORE = 'lmt4-4000'
  const IMAGE = 'Survey office PC OSS1-7741-2LM9.vhdx'
  const KEPT = 'ticket desk kept.qcow2'
  const CAPTURED = 'crv3-240'
  const partition = 2
  const store = { driveId: STORE, partition }
  const listed = async () => {
    const { images } = await imagesOf(STORE, await surveyOf({ kind: 'drives', id: STORE }))
    return images.map(
      ({ name, recorded, unfinished }) => `${name}${recorded ? ', recorded' : ''}${unfinished ? '!' : ''}`,
    )
  }
  const resultOf = async (request: object) => {
    const { state, message, result } = await jobEnd((await startImageJob(request)).id)
    expect(message, JSON.stringify(request)).toBeNull()
    expect(state).toBe('done')
    return result!
  }

  it('are listed, and held against their records', async () => {
    expect(await listed()).toEqual([`${IMAGE}, recorded`])
    expect(await resultOf({ kind: 'verify', input: IMAGE, store })).toMatchObject({ kind: 'verified', equal: true })
  })

  it('are made there of any drive, of the volumes that are asked for', async () => {
    const { stores } = await imagesOf(STORE, await surveyOf({ kind: 'drives', id: STORE }))
    expect(stores).toMatchObject([{ driveId: STORE, partition }])
    const request = { kind: 'capture', driveId: CAPTURED, to: 'qcow2', usedOnly: true, output: KEPT, store }
    expect(await refusalCode(startImageJob({ ...request, driveId: STORE }))).toBe('store-is-source')
    expect(await refusalCode(startImageJob({ ...request, store: { driveId: STORE, partition: 7 } }))).toBe(
      'store-no-volume',
    )
    const claimed = (await loadMove('survey-office')).pairs[0].target!.id
    expect(await refusalCode(startImageJob({ ...request, store: { driveId: claimed, partition: 1 } }))).toMatch(
      /^store-(reserved|no-volume)$/,
    )
    const strange = await jobEnd((await startImageJob({ ...request, volumes: [99] })).id)
    expect([strange.state, strange.message]).toEqual(['failed', 'There is no partition 99 on the source.'])
    expect(await listed()).toEqual([`${IMAGE}, recorded`])
    const { numbers } = await captured()
    const volumes = numbers.slice(0, 1)
    expect(await resultOf({ ...request, volumes })).toMatchObject({ kind: 'written', verified: true })
    expect(await listed()).toEqual([`${IMAGE}, recorded`, `${KEPT}, recorded`])
    expect(await resultOf({ kind: 'verify', input: KEPT, store })).toMatchObject({ equal: true })
    await resultOf({ kind: 'take', input: KEPT, from: store })
    const taken = await openHostImage(path.join(imagesFolder(), 'ticket desk kept.vhdx'))
    const { partitions } = await surveyDrive(taken.device, sha256)
    expect(partitions.map((p) => p.number)).toEqual(volumes)
    await taken.close()
    const again = await jobEnd((await startImageJob({ ...request, volumes })).id)
    expect([again.state, again.message]).toEqual(['failed', expect.stringMatching(/is there already/)])
  })

  it('are deleted there, but for that of an open move', async () => {
    expect(await refusalCode(removeFromDrive(store, IMAGE))).toBe('image-of-move')
    expect(await refusalCode(removeFromDrive(store, 'none.vhdx'))).toBe('image-not-on-drive')
    await removeFromDrive(store, KEPT)
    expect(await listed()).toEqual([`${IMAGE}, recorded`])
    const { file } = driveBytes(await driveById(STORE))
    const { partitions } = await surveyOf({ kind: 'drives', id: STORE })
    const { startBytes, sizeBytes } = partitions.find((p) => p.number === partition)!
    const last = (startBytes + sizeBytes) / 512 - 1
    const volume = cutPartition(file, { first: startBytes / 512, last }, path.join(folder, 'after'))
    expect([...listFiles(volume).keys()].filter((name) => name.startsWith('ticket'))).toEqual([])
  })

  const captured = async () => {
    const survey = await surveyOf({ kind: 'drives', id: CAPTURED })
    return { numbers: survey.partitions.filter((p) => p.role !== 'extended').map((p) => p.number) }
  }
})

describe('a server, while it runs', () => {
  it('is copied as both of its drives were at one moment', async () => {
    const id = await serverMove('running-server')
    await toRoute(id)
    const plans = await plansOf(id)
    // Of one moment are all drives or none.
    for (const { stops, title } of plans) expect(stops.length, title).toBeGreaterThan(1)
    const plan = plans.find((p) => /^Over the network to a virtual disk, while it runs/.test(p.title))!
    expect(plan.notYet).toBeNull()
    await takeRoute(id, { plan: plan.id })
    for (const pair of [0, 1]) await lockFit(id, { pair, wish: { rules: {}, sizes: {}, reserve: 0 } })
    await copyLeg(id)
    const second = await copyEnd(id, 1)
    const first = (await latestCopy(id, 0))!
    for (const { summary } of [first, second]) expect(summary!.live).toMatchObject({ oneMoment: true })
    // What writes to the second drive goes on from the moment on at which the first one's copy began.
    expect(second.summary!.live!.files.length).toBeGreaterThan(0)
    expect(first.id.split('-').at(-1)).toBe(second.id.split('-').at(-1))
    // Its disks carry the identity of the next server's, which is not to meet it.
    await changeComputer('running-server', { running: 'off' })
  })
})

describe('a server', () => {
  it('becomes a virtual machine, read at the host', async () => {
    expect(await serverMove(SERVER)).toBe(SERVER)
    await hostTakes('vhd')
    await toRoute(SERVER)
    const plan = (await plansOf(SERVER)).find((p) => /Read at the host/.test(p.title))!
    expect(plan.notYet).toBeNull()
    await takeRoute(SERVER, { plan: plan.id })
    expect((await loadMove(SERVER)).row.route!.machine!.reasons.join(' ')).toMatch(
      /are VHD, since the .* takes no VHDX/,
    )
    const fit = { pair: 0, wish: { rules: {}, sizes: {}, reserve: 0 } }
    expect(await refusalCode(lockFit(SERVER, { ...fit, virtualBytes: 2041 * GIB }))).toBe('fit-disk-beyond-format')
    const { trial, copies } = await carryOut(SERVER, plan.id)
    expect(copies.map((c) => c.status)).toEqual(['done', 'done'])
    expect(trial.subject).toBe('target')
    expect(trial.trace.starts).toBe(true)
    expect(trial.checks.filter((c) => !c.passed)).toEqual([])
    const { computers, drives } = await benchState()
    const machine = computers.find((c) => c.virtual && c.id.startsWith(SERVER))!
    expect([machine.virtual?.hostId, machine.firmware.mode, machine.running]).toEqual(['host', 'uefi', 'system'])
    expect(
      drives.filter((d) => d.place.kind === 'slot' && d.place.computerId === machine.id).map((d) => d.image),
    ).toEqual(['still-server disk 1.vhd', 'still-server disk 2.vhd'])
  })

  it('is started in the order of the trade, and nothing is done before its turn', async () => {
    const states = async () => (await firstStart(await loadMove(SERVER)))!.map((s) => `${s.id} ${s.state}`)
    const machine = (await benchState()).computers.find((c) => c.virtual && c.id.startsWith(SERVER))!
    // By "read at the host" the physical server is off, since its drives were taken out; somebody starts it again.
    await changeComputer(SERVER, { running: 'system', mains: true })
    expect(await states()).toEqual([
      'start done',
      'volumes done',
      'devices open',
      'power-off open',
      'address waits',
      'network waits',
      'size waits',
    ])
    expect(await refusalCode(takeFirstStartStep(SERVER, { step: 'network', vlan: 20 }))).toBe('first-start-order')
    await ended(makeRepair(SERVER, 'old-devices'))
    expect((await states())[0]).toBe('start open')
    await ended(startTrial(SERVER))
    await takeFirstStartStep(SERVER, { step: 'power-off' })
    await ended(makeRepair(SERVER, 'card-address'))
    await ended(startTrial(SERVER))
    await takeFirstStartStep(SERVER, { step: 'network', vlan: 20 })
    const size = { step: 'size', memoryMib: 8192, leastMemoryMib: 4096, processors: 4 }
    expect(await refusalCode(takeFirstStartStep(SERVER, { ...size, processors: 256 }))).toBe('machine-beyond-host')
    await takeFirstStartStep(SERVER, size)
    expect((await states()).filter((s) => !s.endsWith('done'))).toEqual([])
    expect(await computerById(machine.id)).toMatchObject({
      memoryBytes: 8192 * 2 ** 20,
      networkCards: [{ unplugged: false, vlan: 20 }],
    })
    // What was written is in the registry of the virtual disk, and not in that of the drive.
    const [disk] = (await loadMove(SERVER)).pairs
    const addresses = async (drive: Drive) =>
      withDrive(drive, async (device) => {
        const volume = (await openFileSystem(await systemVolume(device)))!
        const hive = await volume.readFile('/Windows/System32/config/SYSTEM')
        return fixedAddressesIn(await Hive.open(async (at, length) => hive.subarray(at, at + length), hive.length))
      })
    expect((await addresses(disk.target!)).map((a) => [a.id, a.addresses])).toEqual([
      [INTERFACE_OF_CARD, [SERVER_ADDRESS]],
    ])
    expect((await addresses(disk.source)).map((a) => a.addresses)).toEqual([[SERVER_ADDRESS]])
  })

  it('and its old self are never on the network together', async () => {
    const machine = (await benchState()).computers.find((c) => c.virtual && c.id.startsWith(SERVER))!
    await inPlace(SERVER)
    expect(await refusalCode(switchComputer(SERVER, { do: 'start' }))).toBe('network-twin')
    await switchComputer(machine.id, { do: 'shut-down' })
    await switchComputer(SERVER, { do: 'start' })
    expect(await refusalCode(switchComputer(machine.id, { do: 'start' }))).toBe('network-twin')
    expect(await refusalCode(startTrial(SERVER))).toBe('network-twin')
    await switchComputer(SERVER, { do: 'shut-down' })
    await ended(startTrial(SERVER))
    expect((await sheetOf(await loadMove(SERVER), await progressOf((await loadMove(SERVER)).row)))?.onto?.name).toBe(
      'still server, virtual',
    )
    await handOver(SERVER, { by: 'Ilaria' })
  })
})

describe('a package of a virtual machine in the images folder', () => {
  const images = () => readdirSync(imagesFolder()).filter((name) => name.includes('quay'))

  it('becomes a machine of the bench that starts', async () => {
    await hostTakes('vhd', 'vhdx')
    const disk = await makeSystemDisk()
    const file = diskName('quay desk', 0, 'vmdk-stream')
    const drives = [{ survey: await surveyDrive(disk, sha256), file }]
    const { machine } = proposeMachine({ name: 'quay desk', drives, drivers: undefined })
    await writePackage(machine, [{ plan: await planImage(disk), file }], path.join(imagesFolder(), 'quay desk.ova'), {
      format: 'vmdk-stream',
      time: 0,
      onStep: async () => {},
    })
    await ended(startImageJob({ kind: 'unpack', input: 'quay desk.ova' }))
    expect(images().sort()).toEqual(['quay desk disk 1.vhdx', 'quay desk disk 1.vhdx.record.json', 'quay desk.ova'])
    const made = (await benchState()).computers.find((c) => c.name === 'quay desk')!
    expect([made.virtual?.hostId, made.networkCards[0].unplugged]).toEqual(['host', true])
    await switchComputer(made.id, { do: 'start' })
    expect((await computerById(made.id)).running).toBe('system')
  })

  it('is written of a machine of the bench, and read again as the same', async () => {
    const made = (await benchState()).computers.find((c) => c.name === 'quay desk')!
    const request = { kind: 'pack', computerId: made.id, output: 'quay again.ova' }
    expect(await refusalCode(startImageJob(request))).toBe('pack-machine-runs')
    await switchComputer(made.id, { do: 'shut-down' })
    expect(await refusalCode(startImageJob({ ...request, computerId: SERVER }))).toBe('computer-not-virtual')
    await ended(startImageJob(request))
    const { machine, disks, verified } = await openPackage(path.join(imagesFolder(), request.output), {
      aside: path.join(folder, 'again'),
    })
    expect(verified).toBe(true)
    expect([machine.name, machine.firmware, machine.memory.mostBytes, machine.networkCards[0].connected]).toEqual([
      'quay desk',
      'uefi',
      made.memoryBytes,
      false,
    ])
    const disk = await openHostImage(disks[0])
    const [whole] = (await benchState()).drives.filter((d) => d.image === 'quay desk disk 1.vhdx')
    await withDrive(whole, async (drive) => {
      expect((await compareDevices(disk.device, drive)).equal).toBe(true)
    })
    await disk.close()
  })

  it('that was changed leaves nothing', async () => {
    const before = (await benchState()).computers.length
    const bytes = readFileSync(path.join(imagesFolder(), 'quay desk.ova'))
    bytes[bytes.length >> 1] ^= 1
    writeFileSync(path.join(imagesFolder(), 'quay changed.ova'), bytes)
    const end = await jobEnd((await startImageJob({ kind: 'unpack', input: 'quay changed.ova' })).id)
    expect([end.state, end.message]).toEqual(['failed', expect.stringMatching(/is not what the manifest/)])
    expect(images().filter((name) => /changed/.test(name))).toEqual(['quay changed.ova'])
    expect((await benchState()).computers).toHaveLength(before)
    expect(await refusalCode(startImageJob({ kind: 'unpack', input: 'survey office 3 May.vhdx' }))).toBe(
      'image-no-package',
    )
  })
})

/** Of formats of virtual disks the bench's host takes these. */
async function hostTakes(...diskFormats: DiskFormat[]): Promise<void> {
  await saveAccessory({ ...(await benchState()).accessories.find(isHost)!, diskFormats })
}

/** Puts the old drives back into the server, with power. */
async function inPlace(computerId: string): Promise<void> {
  await changeComputer(computerId, { mains: false, running: 'off' })
  for (const [id, slot] of [
    [`${computerId}-1`, 'SATA 0'],
    [`${computerId}-2`, 'SATA 1'],
  ] as const)
    await placeDrive(id, { kind: 'slot', computerId, slot })
  await changeComputer(computerId, { mains: true })
}

async function systemVolume(device: BlockDevice): Promise<SliceDevice> {
  const reading = await readScheme(device)
  if (!reading || reading.scheme === 'damaged') throw new Error('The disk has no table.')
  const { firstLba, lastLba } = reading.partitions[2]
  return new SliceDevice(device, firstLba * 512, (lastLba - firstLba + 1) * 512)
}
