import { rmSync } from 'node:fs'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'

const folder = await vi.hoisted(async () => {
  const { mkdtempSync } = await import('node:fs')
  const { tmpdir } = await import('node:os')
  const data = mkdtempSync(`${tmpdir()}/imbarco-lent-`)
  process.env.IMBARCO_DATA = data
  return data
})

import { DeviceGone } from '@/core/block/device'
import { surveyDrive } from '@/core/survey/survey'
import { openHostImage } from '@/host/images'
import { sha256 } from '@/host/sha256'
import { nbdAddress } from '@/nbd/address'
import { NbdFile } from '@/nbd/client'
import { keyOfCode, newCode } from '@/nbd/key'
import { database } from '@/server/database'
import { refusalCode } from '@/server/ground/testing'
import { startImageJob } from '@/server/pages/images/jobs'
import { answerBorrower, endLending, lend, lentState, takeLoanBack } from '@/server/pages/lent'
import { openDemoBench } from './support/open-demo-bench'

const IMAGE = 'survey office 3 May.vhdx'
const HERE = '127.0.0.1'
const subject = { kind: 'images' as const, id: IMAGE }

beforeAll(openDemoBench)

vi.setConfig({ testTimeout: 120_000 })

afterAll(async () => {
  for (const { id } of (await lentState(undefined)).lent) await endLending({ lent: id })
  await (await database()).close()
  rmSync(folder, { recursive: true, force: true })
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
    expect([file.description, file.isReadOnly]).toEqual(['Corvina S5 960 GB', true])
    await file.close()
    await endLending({ lent: id })
  })
})
