import { execFileSync } from 'node:child_process'
import { createHash } from 'node:crypto'
import { copyFileSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'

import { GET as findRoute } from '@/app/api/find/route'
import { GET as folderRoute } from '@/app/api/look/folder/route'
import { GET as searchRoute } from '@/app/api/look/search/route'
import { DriveRow } from '@/server/database/models'
import { database } from '@/server/database'
import { dataFolder, imagesFolder } from '@/server/ground/paths'
import { jobEnd } from '@/server/jobs'
import { startImageJob } from '@/server/pages/images/jobs'
import { driveById } from '@/server/world'
import { putOnBench } from '@/server/world/image-drives'
import { openDemoBench } from '../support/open-demo-bench'
import { gptWithExt4, OWN_FILES } from '../support/own-disks'

const folder = dataFolder()

const disk = () => path.join(imagesFolder(), 'workshop.img')
const get = (route: (request: Request) => Promise<Response>, query: Record<string, string>) =>
  route(new Request(`http://127.0.0.1/?${new URLSearchParams(query)}`))

beforeAll(async () => {
  await openDemoBench()
  mkdirSync(imagesFolder(), { recursive: true })
  gptWithExt4(disk())
}, 120_000)

afterAll(async () => {
  await (await database()).close()
})

interface Line {
  readonly found?: readonly { readonly path: string; readonly partition: number }[]
  readonly end?: { readonly looked: number; readonly found: number; readonly more: boolean }
  readonly sentence?: string
}

async function search(query: Record<string, string>): Promise<{ paths: string[]; last: Line }> {
  const response = await get(searchRoute, { kind: 'images', id: 'workshop.img', ...query })
  const lines = (await response.text())
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line) as Line)
  return { paths: lines.flatMap((l) => l.found?.map((f) => f.path) ?? []), last: lines.at(-1)! }
}

/** Unpacks a tar by a program of its own and gives the digests of its files. */
function unpacked(bytes: Uint8Array): Map<string, string> {
  const file = path.join(folder, 'folder.tar')
  writeFileSync(file, bytes)
  const names = execFileSync('tar', ['-tf', file], { encoding: 'utf8' }).trim().split('\n')
  return new Map(
    names
      .filter((name) => !name.endsWith('/'))
      .map((name) => {
        const content = execFileSync('tar', ['-xOf', file, name], { maxBuffer: 2 ** 28 })
        return [name, createHash('sha256').update(content).digest('hex')]
      }),
  )
}

const sha = (text: string) => createHash('sha256').update(text).digest('hex')

describe('files looked for by name', () => {
  it('are found over the whole disk and on one volume, in any case and order of the words', async () => {
    expect((await search({ words: 'OFFICE harbour' })).paths).toEqual(['/letters/to the harbour office.txt'])
    expect((await search({ words: 'bootx64' })).paths).toEqual(['/EFI/BOOT/BOOTX64.EFI'])
    expect((await search({ words: 'bootx64', partition: '2' })).paths).toEqual([])
    const { paths, last } = await search({ words: '.' })
    expect(last.end).toMatchObject({ found: paths.length, more: false })
    expect(last.end!.looked).toBeGreaterThanOrEqual(paths.length)
  })

  it('end in a sentence where there is no such volume, and are refused without a word', async () => {
    expect((await search({ words: 'x', partition: '9' })).last.sentence).toMatch(/no partition 9/)
    const refused = await get(searchRoute, { kind: 'images', id: 'workshop.img', words: ' ' })
    expect(refused.status).toBe(400)
  })
})

describe('a folder as a tar', () => {
  it('holds every file below it, for another program', async () => {
    const response = await get(folderRoute, { kind: 'images', id: 'workshop.img', partition: '2', path: '/' })
    expect(response.headers.get('content-disposition')).toMatch(/volume\.tar/)
    const files = unpacked(new Uint8Array(await response.arrayBuffer()))
    for (const [name, text] of Object.entries(OWN_FILES)) expect(files.get(`volume/${name}`), name).toBe(sha(text))
    const letters = await get(folderRoute, { kind: 'images', id: 'workshop.img', partition: '2', path: '/letters' })
    expect([...unpacked(new Uint8Array(await letters.arrayBuffer())).keys()]).toEqual([
      'letters/to the harbour office.txt',
    ])
    const none = await get(folderRoute, { kind: 'images', id: 'workshop.img', partition: '2', path: '/nowhere' })
    expect(none.status).toBe(409)
  })

  it('of a drive with faults has zeros where it does not read, and says so', async () => {
    const copy = path.join(imagesFolder(), 'worn.img')
    copyFileSync(disk(), copy)
    const id = await putOnBench({ image: 'worn.img' })
    const text = OWN_FILES['photographs/quay.raw']
    // A sector in the middle of the file.
    const at = readFileSync(copy).indexOf(text.slice(0, 4096))
    const firstLba = Math.floor(at / 512) + 100
    const data = { ...(await driveById(id)), unreadable: [{ firstLba, count: 2 }] }
    await DriveRow.update({ data }, { where: { id } })
    const response = await get(folderRoute, { kind: 'drives', id, partition: '2', path: '/photographs' })
    const files = unpacked(new Uint8Array(await response.arrayBuffer()))
    const offset = firstLba * 512 - at
    const holed = text.slice(0, offset) + '\0'.repeat(1024) + text.slice(offset + 1024)
    expect(files.get('photographs/quay.raw')).toBe(sha(holed))
    const note = execFileSync('tar', ['-xOf', path.join(folder, 'folder.tar'), 'photographs/NOT READ.txt'], {
      encoding: 'utf8',
    })
    expect(note).toMatch(/quay\.raw\n {4}2 sectors of it did not read/)
  })
})

describe('a drive beside an image', () => {
  it('is compared with it, and the files that differ are named', async () => {
    const copy = path.join(imagesFolder(), 'changed.img')
    const bytes = readFileSync(disk())
    const at = bytes.indexOf('tide tables are in the drawer')
    bytes[at] = 'T'.charCodeAt(0)
    writeFileSync(copy, bytes)
    const id = await putOnBench({ image: 'changed.img' })
    const compare = (b: { kind: string; id: string }) =>
      startImageJob({ kind: 'compare', a: { kind: 'drives', id }, b }).then((job) => jobEnd(job.id))
    const { state, result } = await compare({ kind: 'images', id: 'workshop.img' })
    expect(state).toBe('done')
    expect(result).toMatchObject({
      comparison: { equal: false, differingBytes: 1, firstDifference: at },
      touched: { files: [{ partition: 2, path: '/notes.txt' }] },
    })
    // The image is what the drive's bytes lie in.
    await expect(compare({ kind: 'images', id: 'changed.img' })).rejects.toThrow(/same bytes/)
  })
})

describe('what Ctrl K finds', () => {
  const find = async (q: string) =>
    ((await (await get(findRoute, { q })).json()) as { value: { kind: string; title: string; href: string }[] }).value

  it('is moves, drives by model, serial and place, computers and images', async () => {
    const all = await find('')
    expect(all.length).toBeGreaterThan(0)
    expect(new Set(all.map((t) => t.kind))).toEqual(new Set(['move']))
    expect((await find('crv3-8841')).map((t) => t.href)).toEqual(['/drives/crv3-240'])
    expect((await find('dock bay corvina')).map((t) => t.href)).toEqual(['/drives/crv5-960'])
    expect((await find('WORKSHOP.img')).map((t) => [t.kind, t.href])).toEqual([['image', '/images/workshop.img']])
    expect((await find('lanterna')).map((t) => t.href)).toEqual(['/moves/ticket-desk'])
    expect((await find('tramonto r1')).map((t) => t.kind)).toEqual(['computer'])
    expect(await find('nothing is called so')).toEqual([])
  })
})
