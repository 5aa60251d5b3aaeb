import { execFileSync } from 'node:child_process'
import { closeSync, openSync, readSync, writeSync } from 'node:fs'
import path from 'node:path'
import { afterEach, beforeEach, describe, expect, it } from 'vitest'
import { gdiskProblems } from '../support/independent'
import { Page } from './support/browser'
import { serve, type Served } from './support/serve'
import { fromSurveyToReady, PLATE, settle, setPace, startCopy } from './support/steps'

let served: Served
let page: Page
const file = (drive: string) => path.join(served.data, 'drives', `${drive}.img`)

beforeEach(async () => {
  served = await serve()
  page = await Page.launch(served.url)
})

afterEach(async () => {
  await page.close()
  await served.close()
})

/** Changes bytes on the medium itself: the drive does not know of it, so its file keeps the time it has. */
function change(drive: string, at: number, length: number, work: (bytes: Buffer) => void): void {
  const time = path.join(served.data, 'time')
  execFileSync('touch', ['-r', file(drive), time])
  const handle = openSync(file(drive), 'r+')
  const bytes = Buffer.alloc(length)
  readSync(handle, bytes, 0, length, at)
  work(bytes)
  writeSync(handle, bytes, 0, length, at)
  closeSync(handle)
  execFileSync('touch', ['-r', time, file(drive)])
}

/** Marks the system volume as not closed: finds the flags in the volume's own record, by nothing of Imbarco's. */
function markDirty(): void {
  const start = 239_616 * 512
  let mft = 0
  change('crv3-240', start, 512, (boot) => (mft = Number(boot.readBigUInt64LE(48)) * 4096))
  change('crv3-240', start + mft + 3 * 1024, 1024, (record) => {
    let at = record.readUInt16LE(20)
    while (record.readUInt32LE(at) !== 0x70) at += record.readUInt32LE(at + 4)
    const value = at + record.readUInt16LE(at + 20)
    record.writeUInt16LE(record.readUInt16LE(value + 10) | 1, value + 10)
  })
}

describe('a source with a damaged partition table', () => {
  it('is read from its backup, said to be damaged, and copied to a whole one', async () => {
    change('crv3-240', 512, 512, (header) => header.writeUInt8(header.readUInt8(60) ^ 0xff, 60))
    expect(gdiskProblems(file('crv3-240'))).not.toBe('')
    await page.open('/moves/ticket-desk/intake')
    await page.next(/Read the drives/)
    await page.untilFinding(/One thing is damaged on the source/)
    const text = await page.text()
    expect(text).toMatch(
      /first copy of the partition table is damaged: it fails its checksum \(stored [0-9A-F ]{9}, computed [0-9A-F ]{9}\)/,
    )
    expect(text).toMatch(/Harbour \(C:\)/)
    await fromSurveyToReady(page)
    await settle(page)
    await setPace(page, /as fast as it goes/)
    await startCopy(page)
    await page.untilFinding(/reads back equal/, 240_000)
    expect(gdiskProblems(file('crv5-960'))).toBe('')
  })
})

describe('a volume that was not closed cleanly', () => {
  it('is said to be so and blocks the copy, until it is clean again', async () => {
    markDirty()
    await page.open('/moves/ticket-desk/intake')
    await page.next(/Read the drives/)
    await page.untilFinding(/Harbour \(C:\) was not closed cleanly/)
    await page.untilText(/not closed cleanly; a file-system check is due/)
    await fromSurveyToReady(page)
    await page.untilText(/Harbour \(C:\) was not closed cleanly\. A copy would carry the fault along/)
    expect(await (await page.find('next-action')).isEnabled()).toBe(false)
    const refused = await fetch(`${served.url}/api/moves/ticket-desk/copy`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ plate: PLATE }),
    })
    expect(refused.status).toBe(409)
    expect((await refused.json()).sentence).toMatch(/not closed cleanly.*Nothing was written\.$/)
  })
})

describe('a source with nothing left to read', () => {
  it('is called what it is, and nothing can go on from it', async () => {
    change('crv3-240', 512, 33 * 512, (bytes) => bytes.fill(0x5a))
    // The protective MBR stays, so the drive must not pass for an empty one.
    change('crv3-240', 240_057_409_536 - 33 * 512, 33 * 512, (bytes) => bytes.fill(0x5a))
    await page.open('/moves/ticket-desk/intake')
    await page.next(/Read the drives/)
    await page.untilFinding(/The source cannot be moved as it is/)
    expect(await (await page.find('next-action')).isEnabled()).toBe(false)
    await page.untilText(/There is nothing on the source that can be moved/)
    expect(await page.text()).toMatch(/neither copy of it is/)
  })
})
