import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

import { DeviceGone, readBytes } from '@/core/block/device'
import { pieceDigest } from '@/core/copy/piece-digests'
import { lentPlate } from '@/core/lent/plate'
import { surveyDrive } from '@/core/survey/survey'
import { openHostImage } from '@/host/images'
import { pattern } from '@/core/testing'
import { sha256 } from '@/host/sha256'
import { blake3 } from '@/host/strong-digest'
import { nbdAddress } from '@/nbd/address'
import { NbdFile } from '@/nbd/client'
import { keyOfCode, newCode } from '@/nbd/key'
import { database } from '@/server/database'
import { refusalCode } from '@/server/ground/testing'
import { startImageJob } from '@/server/pages/images/jobs'
import { answerBorrower, endLending, lend, lentState, takeLoanBack } from '@/server/pages/lent'
import { driveById, placeDrive, withDrive } from '@/server/world'
import { addDrive } from '@/server/world/things'
import { openDemoBench } from '../support/open-demo-bench'
import { dataFolder } from '@/server/ground/paths'

const folder = dataFolder()

const IMAGE = 'survey office 3 May.vhdx'
const HERE = '127.0.0.1'
const subject = { kind: 'images' as const, id: IMAGE }

beforeAll(openDemoBench)

vi.setConfig({ testTimeout: 120_000 })

afterAll(async () => {
  for (const { id } of (await lentState(undefined)).lent) await endLending({ lent: id })
  await (await database()).close()
})

const lentNow = async () => (await lentState(undefined)).lent
const loans = async () => (await lentNow()).flatMap((one) => one.loans)
const untilState = (state: string) =>
  vi.waitUntil(async () => (await loans()).some((l) => l.state === state), { timeout: 30_000 })

/** Asks for what is lent, as another bench does. */
async function borrow(patienceMs = 0): Promise<NbdFile> {
  const [{ uri, code }] = await lentNow()
  return NbdFile.open(nbdAddress(uri), { key: keyOfCode(code), patienceMs })
}

describe('an image that is lent', () => {
  it('is lent once, however often it is asked for at once, at an address of this computer', async () => {
    expect(await refusalCode(lend({ subject, address: '192.0.2.7' }))).toBe('lent-no-address')
    const ends = await Promise.allSettled([1, 2, 3].map(() => lend({ subject, address: HERE })))
    expect(ends.filter((end) => end.status === 'fulfilled')).toHaveLength(1)
    expect(await lentNow()).toMatchObject([{ name: IMAGE, wrongKeys: 0, loans: [] }])
    // Nobody writes to it meanwhile.
    expect(await refusalCode(startImageJob({ kind: 'compact', input: IMAGE }))).toBe('in-use')
  })

  it('is given to whoever has the code and gets a yes, and to nobody else', async () => {
    const [{ id, uri }] = await lentNow()
    await expect(NbdFile.open(nbdAddress(uri), { key: keyOfCode(newCode()) })).rejects.toThrow(/this key/)
    await vi.waitUntil(async () => (await lentNow())[0].wrongKeys === 1)
    expect(await refusalCode(answerBorrower({ lent: id, peer: HERE, yes: true }))).toBe('lent-nobody-asks')
    const refused = borrow().catch((error: Error) => error)
    await untilState('asks')
    await answerBorrower({ lent: id, peer: HERE, yes: false })
    expect(await refused).toMatchObject({ message: expect.stringMatching(/not allowed/) })
    const asked = borrow()
    await untilState('asks')
    await answerBorrower({ lent: id, peer: HERE, yes: true })
    const file = await asked
    const image = await openHostImage(path.join(folder, 'images', IMAGE))
    expect(file.size).toBe(image.device.size)
    const theirs = await openHostImage(uri, { key: keyOfCode((await lentNow())[0].code) })
    const [there, here] = [await surveyDrive(theirs.device, sha256), await surveyDrive(image.device, sha256)]
    expect(there.partitions).toEqual(here.partitions)
    await theirs.close()
    await image.close()
    await vi.waitUntil(async () => (await loans()).some((l) => l.state === 'has it' && l.readBytes > 0))
    await takeLoanBack({ lent: id, peer: HERE })
    await untilState('had it')
    const error = await file.read(0, new Uint8Array(512)).catch((e: unknown) => e)
    expect(error).toBeInstanceOf(Error)
    await file.close()
    // It asked once more before it gave up, and left.
    await vi.waitUntil(async () => !(await loans()).some((l) => l.state === 'asks'), { timeout: 30_000 })
  })

  it('is nobody’s any more once that is ended', async () => {
    const [{ id }] = await lentNow()
    const waiting = borrow().catch((error: Error) => error)
    await untilState('asks')
    await answerBorrower({ lent: id, peer: HERE, yes: true })
    const file = (await waiting) as NbdFile
    await endLending({ lent: id })
    expect(await lentNow()).toEqual([])
    await expect(file.read(0, new Uint8Array(512))).rejects.toThrow(DeviceGone)
    expect(await refusalCode(endLending({ lent: id }))).toBe('lent-unknown')
  })
})

describe('a drive that is lent', () => {
  it('is connected to something, and is read where it is', async () => {
    const on = (id: string) => ({ subject: { kind: 'drives' as const, id }, address: HERE })
    expect(await refusalCode(lend(on('tln1-256')))).toBe('drive-not-connected')
    const id = await lend(on('crv5-960'))
    const asked = borrow()
    await untilState('asks')
    await answerBorrower({ lent: id, peer: HERE, yes: true })
    const file = await asked
    expect([file.description, file.isReadOnly]).toEqual(['Corvina S5 960 GB of Molo Sette', true])
    expect(lentPlate(file.toldOfIt)).toMatchObject({ bench: 'Molo Sette', drive: { serial: 'CRV5-2207-4M1Q' } })
    await file.close()
    await endLending({ lent: id })
  })

  it('is lent in one of its partitions, once', async () => {
    const part = { subject, address: HERE, partition: 3, once: true }
    expect(await refusalCode(lend({ ...part, partition: 99 }))).toBe('lent-failed')
    await lend(part)
    const asked = borrow()
    await untilState('asks')
    const [{ id, name }] = await lentNow()
    expect(name).toBe(`${IMAGE}, partition 3`)
    await answerBorrower({ lent: id, peer: HERE, yes: true })
    const file = await asked
    const image = await openHostImage(path.join(folder, 'images', IMAGE))
    const { partitions } = await surveyDrive(image.device, sha256)
    const third = partitions.find((p) => p.number === 3)!
    const [theirs, ours] = [new Uint8Array(65_536), new Uint8Array(65_536)]
    await file.read(0, theirs)
    await image.device.read(third.startBytes, ours)
    expect([file.size, Buffer.compare(theirs, ours)]).toEqual([third.sizeBytes, 0])
    await image.close()
    await file.close()
    await vi.waitUntil(async () => (await lentNow()).length === 0)
  })

  it('is lent to be written over by its plate alone, as long as nothing rests on it', async () => {
    const target = { kind: 'drives' as const, id: 'crv1-7777-ab12' }
    const as = (plate: string, id = target.id) =>
      lend({ subject: { kind: 'drives', id }, address: HERE, writable: true, plate })
    await addDrive({
      ...{ from: 'blank', kind: 'sata-ssd', model: 'Corvina S1', serial: 'CRV1-7777-AB12' },
      ...{ sizeBytes: 2 ** 30, logicalSectorSize: 512, purpose: 'customer' },
    })
    await placeDrive(target.id, { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 2' })
    expect(await refusalCode(as('AB13'))).toBe('plate-wrong')
    expect(await refusalCode(as('4M1Q', 'crv5-960'))).toBe('lent-failed')
    expect(await refusalCode(lend({ subject, address: HERE, writable: true, plate: 'AB12' }))).toBe(
      'lent-image-as-target',
    )
    const id = await as('ab12')
    expect(await lentNow()).toMatchObject([{ id, writable: true }])
    // It is its borrower's alone.
    const capture = { kind: 'capture', driveId: target.id, output: 'x.vhdx', to: 'vhdx', usedOnly: true }
    expect(await refusalCode(startImageJob(capture))).toBe('in-use')
    const asked = borrow()
    await untilState('asks')
    await answerBorrower({ lent: id, peer: HERE, yes: true })
    const file = await asked
    await file.write(4096, pattern(8192, 5))
    await file.flush()
    // Digests are those of what is on the drive.
    expect(Buffer.from((await file.digestOf(4096, 8192))!).equals(pieceDigest(pattern(8192, 5), blake3))).toBe(true)
    await file.close()
    await vi.waitUntil(async () => (await loans()).some((l) => l.writtenBytes === 8192))
    await endLending({ lent: id })
    await withDrive(await driveById(target.id), async (device) => {
      expect(await readBytes(device, 4096, 8192)).toEqual(pattern(8192, 5))
    })
  })
})
