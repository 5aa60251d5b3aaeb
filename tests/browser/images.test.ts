import { createHash } from 'node:crypto'
import {
  closeSync,
  existsSync,
  mkdtempSync,
  openSync,
  readFileSync,
  readSync,
  readdirSync,
  rmSync,
  statSync,
  statfsSync,
  writeFileSync,
  writeSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { imbarco } from '../support/image-files'
import { expectAccessible } from './support/axe'
import { By, Key, Page } from './support/browser'
import { type Served, serve } from './support/serve'

// The images page, with a bench of its own.

let served: Served
let page: Page
let folder: string
let images: string
const at = (name: string) => path.join(images, name)

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-upload-'))
  served = await serve()
  images = path.join(served.data, 'images')
  page = await Page.launch(served.url)
})

afterAll(async () => {
  await page.close()
  await served.close()
  rmSync(folder, { recursive: true, force: true })
})

async function untilJob(title: RegExp, state: string): Promise<string> {
  let text = ''
  await page.until(async () => {
    for (const job of await page.driver.findElements(By.css(`[data-testid="jobs"] [data-state="${state}"]`))) {
      text = await job.getText()
      if (title.test(text)) return true
    }
    return false
  }, `${title} ${state}`)
  return text
}

async function fill(label: RegExp, value: string, form: string): Promise<void> {
  const field = await page.driver.findElement(
    By.xpath(
      `//form[.//button[normalize-space()="${form}"]]//label[contains(., "${label.source}")]/following-sibling::*`,
    ),
  )
  if ((await field.getTagName()) === 'select') {
    await field.findElement(By.xpath(`.//option[contains(., "${value}")]`)).click()
    return
  }
  await page.until(async () => {
    if ((await field.getAttribute('value')) === value) return true
    await field.sendKeys(Key.chord(Key.CONTROL, 'a'), value)
    return false
  }, `${value} in its field`)
}

describe('the images page', () => {
  it('tells what is in each file, the damaged one by name', async () => {
    await page.open('/images')
    expect(await page.finding()).toBe('3 images, one of them damaged')
    const table = await (await page.find('images')).getText()
    expect(table).toMatch(/kiosk, table damaged\.img[\s\S]*raw[\s\S]*4 GiB[\s\S]*damaged/)
    expect(table).toMatch(/survey office 3 May\.vhdx[\s\S]*VHDX, dynamic[\s\S]*119\.2 GiB[\s\S]*Windows 10 Pro/)
    expect(table).toMatch(/rescue stick\.qcow2[\s\S]*MBR/)
    await expectAccessible(page, 'images')
  })

  it('converts with progress, refuses a name that is taken, and compares', async () => {
    await page.click(/^survey office/)
    await fill(/Format/, 'QCOW2', 'Convert')
    await fill(/Name of the new image/, 'rescue stick.qcow2', 'Convert')
    await page.click(/^Convert$/)
    await page.untilText(/There is an image rescue stick\.qcow2 already/)
    await fill(/Name of the new image/, 'office.qcow2', 'Convert')
    await page.click(/^Convert$/)
    expect(await untilJob(/office\.qcow2/, 'done')).toMatch(/Whole\. A disk of 119\.2 GiB/)
    await page.untilFinding(/^4 images/)
    expect(await imbarco('compare', at('office.qcow2'), at('survey office 3 May.vhdx'))).toMatchObject({
      code: 0,
      error: '',
    })
    await page.click(/^survey office/)
    await fill(/Compare with/, 'office.qcow2', 'Compare')
    await page.click(/^Compare$/)
    expect(await untilJob(/compared with office/, 'done')).toMatch(/Equal, all 119\.2 GiB/)
    await fill(/Compare with/, 'kiosk', 'Compare')
    await page.click(/^Compare$/)
    expect(await untilJob(/compared with kiosk/, 'done')).toMatch(/first differ at sector \d/)
  })

  it('makes an image of a drive on the bench that an independent reader takes, free clusters left out', async () => {
    await fill(/Drive/, 'Ostrica S1', 'Make it')
    await fill(/Format/, 'VHD, dynamic', 'Make it')
    await fill(/Name of the new image/, 'ostrica.vhd', 'Make it')
    await page.click(/^Make it$/)
    await untilJob(/ostrica\.vhd/, 'done')
    expect(statSync(at('ostrica.vhd')).blocks * 512).toBeLessThan(200 * 1024 * 1024)
    const report = JSON.parse((await imbarco('survey', at('ostrica.vhd'), '--json')).out)
    expect(report.partitions.map((p: { title: string }) => p.title)).toEqual([
      'EFI system',
      'Reserved',
      'Hulls (C:)',
      'Recovery',
    ])
    expect((await imbarco('compare', at('ostrica.vhd'), at('survey office 3 May.vhdx'))).code).toBe(0)
  })

  it('verifies an image against its record, and names what is not as it was made', async () => {
    await page.open('/images')
    await page.click(/^ostrica/)
    await page.click(/^Verify$/)
    expect(await untilJob(/ostrica\.vhd held against/, 'done')).toMatch(/As it was made/)
    const file = openSync(at('ostrica.vhd'), 'r+')
    const byte = Buffer.alloc(1)
    const offset = readFileSync(at('ostrica.vhd')).indexOf('EFI PART')
    readSync(file, byte, 0, 1, offset)
    writeSync(file, Buffer.of(byte[0] ^ 1), 0, 1, offset)
    closeSync(file)
    await page.open('/images')
    await page.click(/^ostrica/)
    await page.click(/^Verify$/)
    await page.untilText(/It is not what was recorded on .*1 stretch differ/)
    rmSync(at('ostrica.vhd'))
  })

  it('compacts an image in its place', async () => {
    await page.open('/images')
    const before = statSync(at('office.qcow2')).ino
    await page.click(/^office\.qcow2/)
    await page.click(/^Compact$/)
    expect(await untilJob(/office\.qcow2 compacted/, 'done')).toMatch(/where it took .* before.*Read back and equal/s)
    expect(statSync(at('office.qcow2')).ino).not.toBe(before)
    expect(await imbarco('compare', at('office.qcow2'), at('survey office 3 May.vhdx'))).toMatchObject({
      code: 0,
      error: '',
    })
    await expectAccessible(page, 'images with a record')
  })

  it('looks inside an image: finding, files, download, structures', async () => {
    await page.open('/images')
    await page.click(/^kiosk/)
    await page.next(/Look inside/)
    await page.untilFinding(/One thing is damaged/)
    await page.untilText(/first copy of the partition table is damaged: it fails its checksum/)
    await page.click(/^Timetable$/)
    const link = await page.driver.wait(
      async () => (await page.driver.findElements(By.linkText('summer.txt')))[0],
      15_000,
    )
    const response = await fetch((await link!.getAttribute('href'))!)
    expect(response.headers.get('content-disposition')).toMatch(/^attachment; filename="?summer\.txt"?$/)
    expect(await response.text()).toMatch(/08:10 Isola Lunga/)
    await page.click(/Show bytes and fields/)
    await page.click(/^GPT header$/)
    await page.untilText(/headerCrc/)
    await expectAccessible(page, 'an image')
    expect(await page.complaints()).toEqual([])
  })

  it('puts an image on the bench as a drive, once', async () => {
    await page.open('/images')
    await page.click(/^rescue stick/)
    await page.click(/Put on the bench/)
    await page.untilText(/On the bench as a drive/)
    await page.open('/bench')
    await page.click(/rescue stick 8\.?\d* GB|rescue stick 9 GB/)
    await page.next(/Look inside/)
    await page.untilFinding(/1 partition, and nothing wrong was seen/)
  })

  it('takes an upload, and goes on with one that was cut', async () => {
    // More than one request may carry.
    const bytes = Buffer.alloc(25 * 1024 * 1024 + 512)
    for (let i = 0; i < bytes.length; i++) bytes[i] = (i * 13 + (i >> 10)) & 0xff
    const file = path.join(folder, 'tide clock.img')
    writeFileSync(file, bytes)
    await page.open('/images')
    await page.driver.findElement(By.css('input[type="file"]')).sendKeys(file)
    await page.untilText(/It has arrived/)
    await page.untilText(/tide clock\.img/)
    expect(readFileSync(at('tide clock.img')).equals(bytes)).toBe(true)

    // The protocol itself: half of it, then a question where it stands, then the rest.
    const metadata = `filename ${Buffer.from('../../cut in two.img').toString('base64')}`
    const created = await fetch(`${served.url}/api/images/upload`, {
      method: 'POST',
      headers: { 'tus-resumable': '1.0.0', 'upload-length': String(bytes.length), 'upload-metadata': metadata },
    })
    expect(created.status).toBe(201)
    const place = new URL(created.headers.get('location')!, served.url)
    const send = (from: number, to: number) =>
      fetch(place, {
        method: 'PATCH',
        headers: {
          'tus-resumable': '1.0.0',
          'upload-offset': String(from),
          'content-type': 'application/offset+octet-stream',
        },
        body: bytes.subarray(from, to),
      })
    expect((await send(0, 1_000_000)).status).toBe(204)
    const head = await fetch(place, { method: 'HEAD', headers: { 'tus-resumable': '1.0.0' } })
    expect(head.headers.get('upload-offset')).toBe('1000000')
    for (let from = 1_000_000; from < bytes.length; from += 8_000_000) {
      expect((await send(from, Math.min(from + 8_000_000, bytes.length))).status).toBe(204)
    }
    // The name is kept inside the folder, whatever it says.
    const name = readdirSync(images).find((n) => n.includes('cut in two'))!
    expect(existsSync(path.join(served.data, 'cut in two.img'))).toBe(false)
    expect(
      createHash('sha256')
        .update(readFileSync(at(name)))
        .digest('hex'),
    ).toBe(createHash('sha256').update(bytes).digest('hex'))
  })

  it('lists an upload that is not whole, counts what it still takes, and deletes it', async () => {
    const create = (name: string, size: number) =>
      fetch(`${served.url}/api/images/upload`, {
        method: 'POST',
        headers: {
          'tus-resumable': '1.0.0',
          'upload-length': String(size),
          'upload-metadata': `filename ${Buffer.from(name).toString('base64')}`,
        },
      })
    const { bavail, bsize } = statfsSync(images)
    const most = Math.floor((bavail * bsize * 2) / 3)
    expect((await create('harbour cranes.img', most)).status).toBe(201)
    const second = await create('harbour boats.img', most)
    expect(second.status).toBe(507)
    expect(await second.text()).toMatch(/beside the uploads that are not whole yet/)
    await page.open('/images')
    const list = await page.find('unfinished-uploads')
    expect(await list.getText()).toMatch(/harbour cranes\.img, 0 bytes? of/)
    await page.click(/Delete\s+the part of harbour cranes/)
    await page.until(async () => !/harbour cranes/.test(await page.text()), 'the upload to be gone')
    expect(readdirSync(path.join(served.data, 'uploads'))).toEqual([])
  })

  it('deletes an image that nothing uses, and none that is a drive of the bench', async () => {
    const remove = (name: string) =>
      fetch(`${served.url}/api/images/files/${encodeURIComponent(name)}`, { method: 'DELETE' })
    const refused = await remove('rescue stick.qcow2')
    expect([refused.status, (await refused.json()).sentence]).toEqual([409, expect.stringMatching(/is on a bench as/)])
    expect((await remove('../imbarco.sqlite')).status).toBe(400)
    expect((await remove('nothing.img')).status).toBe(404)
    await page.open('/images')
    await page.click(/^tide clock/)
    await page.click(/^Delete the image/)
    await page.send()
    await page.until(async () => !existsSync(at('tide clock.img')), 'the file to be gone')
    expect(existsSync(at('rescue stick.qcow2'))).toBe(true)
  })

  it('refuses an upload for which there is no room, and one that does not say its length', async () => {
    const create = (headers: Record<string, string>) =>
      fetch(`${served.url}/api/images/upload`, { method: 'POST', headers: { 'tus-resumable': '1.0.0', ...headers } })
    const huge = await create({ 'upload-length': String(2 ** 50) })
    expect([huge.status, await huge.text()]).toEqual([
      507,
      expect.stringMatching(/there is room for .*Nothing was stored/),
    ])
    expect((await create({})).status).toBe(400)
  })

  it.each([
    ['/api/look/files?kind=images&id=..%2Fimbarco.sqlite', 400, /file name/],
    ['/api/look/files?kind=images&id=nothing.img', 404, /no image/],
    ['/api/look/files?kind=images&id=rescue%20stick.qcow2&partition=7', 409, /no partition 7/],
    ['/api/look/file?kind=images&id=rescue%20stick.qcow2&partition=1&path=%2Fnothing', 404, /no file/],
    ['/api/look/sector?kind=images&id=rescue%20stick.qcow2&lba=99999999999', 400, /there is no sector/],
    ['/api/look/sector?kind=tapes&id=1', 400, /malformed/],
    ['/api/look/files?kind=drives&id=nothing', 404, /no such drive/],
  ])('answers %s with %i and a sentence', async (url, status, sentence) => {
    const response = await fetch(served.url + url)
    expect(response.status).toBe(status)
    expect((await response.json()).sentence).toMatch(sentence)
  })

  it.each([
    [{ kind: 'convert', input: '../x', output: 'y.img', to: 'raw' }, 400],
    [{ kind: 'convert', input: 'nothing.img', output: 'y.img', to: 'raw' }, 404],
    [{ kind: 'convert', input: 'rescue stick.qcow2', output: '.hidden', to: 'raw' }, 400],
    [
      {
        kind: 'compare',
        a: { kind: 'images', id: 'rescue stick.qcow2' },
        b: { kind: 'images', id: 'rescue stick.qcow2' },
      },
      409,
    ],
    [{ kind: 'capture', driveId: 'nothing', output: 'y.img', to: 'raw', usedOnly: true }, 404],
    [{ kind: 'burn' }, 400],
  ])('refuses the job %j with %i', async (body, status) => {
    const response = await fetch(`${served.url}/api/images/jobs`, { method: 'POST', body: JSON.stringify(body) })
    expect(response.status).toBe(status)
    expect((await response.json()).sentence).toMatch(/\.$/)
    expect(readdirSync(images).filter((name) => name.startsWith('y.') || name.includes('partial'))).toEqual([])
  })
})
