// A bench with very many things on it: how long each page takes, and the memory of the server.
import { linkSync } from 'node:fs'
import path from 'node:path'
import { MIB } from '@/core/bytes/size'
import { Page } from '../tests/browser/support/browser'
import { serve } from '../tests/browser/support/serve'
import { fromSurveyToReady, settle, startCopy, toSurvey } from '../tests/browser/support/steps'
import type { Line } from './bench-images'
import { watched } from './bench-server'

const MOVES = 500
const COMPUTERS = 100
const DRIVES = 1500
const TIMES = 7

/** Measures every page with 500 moves, 100 computers and 1 500 drives. */
export async function benchMany(folder: string, line: Line): Promise<void> {
  const first = await serve()
  const page = await Page.launch(first.url)
  // One move as far as its list; all others are made from it.
  await toSurvey(page)
  await fromSurveyToReady(page)
  await page.close()
  await first.kill()
  process.env.IMBARCO_DATA = first.data
  const last = await makeMany(path.join(first.data, 'drives'))
  const file = path.join(folder, 'watched-many')
  const watcher = new URL('./watch-server.mjs', import.meta.url).href
  const env = { NODE_OPTIONS: `--import=${watcher}`, IMBARCO_WATCH: file }
  const served = await serve({ data: first.data, env, warm: true })
  try {
    line('what all drives hold was read, after the start', `${(await allKnown(served.url)).toFixed(1)} s`)
    line(`pages with ${MOVES} moves, ${COMPUTERS} computers, ${DRIVES} drives`, 'first, middle, at most of the next')
    for (const address of [
      '/',
      '/bench',
      '/moves/new',
      ...['intake', 'survey', 'route', 'fit', 'ready', 'swap', 'proof', 'handover'].map((s) => `/moves/${last}/${s}`),
      '/past',
      '/shelf',
      '/images',
      '/computers/ticket-desk',
    ]) {
      const times: number[] = []
      for (let i = 0; i < TIMES; i++) {
        times.push(await timed(served.url + address))
      }
      const [cold, ...warm] = times
      line(`  ${address.replace(last, 'ID')}`, [milliseconds(cold), ...middleAndMost(warm)].join(', '))
    }
    await afterChanges(served.url, line)
    await copyBeside(served.url, file, line)
    const memory = watched(file).map((w) => w.memoryBytes)
    line('  memory of the server, at most', `${(Math.max(...memory) / MIB).toFixed(0)} MiB`)
  } finally {
    await served.close()
  }
}

/** Milliseconds until a page is there as a whole. */
async function timed(url: string): Promise<number> {
  const start = performance.now()
  const response = await fetch(url)
  await response.text()
  if (response.status !== 200) throw new Error(`${url} answers with ${response.status}.`)
  return performance.now() - start
}

const milliseconds = (time: number) => `${time.toFixed(0)} ms`

function middleAndMost(times: readonly number[]): string[] {
  const sorted = times.toSorted((a, b) => a - b)
  return [sorted[sorted.length >> 1], sorted.at(-1)!].map(milliseconds)
}

/** Has a drive change its place each time, after which much has to be told anew. */
async function afterChanges(url: string, line: Line): Promise<void> {
  for (const address of ['/', '/bench', '/shelf', '/moves/new', '/moves/many-0001/route']) {
    const times: number[] = []
    for (let i = 0; i < TIMES; i++) {
      const response = await fetch(`${url}/api/bench/drives/many-${DRIVES}/place`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ place: { kind: i % 2 ? 'table' : 'shelf' }, meant: true }),
      })
      if (response.status !== 200) throw new Error(`The drive is not moved: ${await response.text()}`)
      times.push(await timed(url + address))
    }
    line(`  after a change: ${address}, in the middle, at most`, middleAndMost(times).join(', '))
  }
}

/** Waits until the server has read what every drive holds, once after its start, and tells the seconds. */
async function allKnown(url: string): Promise<number> {
  const start = performance.now()
  while ((await (await fetch(`${url}/moves/new`)).text()).includes('being read'))
    await new Promise((resolve) => setTimeout(resolve, 250))
  return (performance.now() - start) / 1000
}

/** Copies the ticket desk, at first alone, then while pages are asked for. */
async function copyBeside(url: string, file: string, line: Line): Promise<void> {
  const page = await Page.launch(url)
  try {
    await page.open('/moves/ticket-desk/ready')
    await settle(page)
    await startCopy(page)
    // What the browser asks for and draws would be measured with it.
    await page.driver.get('about:blank')
    const start = Date.now()
    await new Promise((resolve) => setTimeout(resolve, 5000))
    const held = watched(file)
      .filter((w) => w.at >= start + 500)
      .map((w) => w.heldMs)
    line('  a copy alone: event loop held, in the middle, at most', middleAndMost(held).join(', '))
    for (const address of ['/', '/bench', '/moves/many-0001/route']) {
      const times: number[] = []
      for (let i = 0; i < TIMES; i++) {
        times.push(await timed(url + address))
      }
      line(`  beside a copy: ${address}, in the middle, at most`, middleAndMost(times).join(', '))
    }
    const { value } = (await (await fetch(`${url}/api/moves/ticket-desk/copy`)).json()) as { value: { status: string } }
    if (value.status !== 'running') throw new Error(`The copy is ${value.status}.`)
  } finally {
    await page.close()
  }
}

/** Fills the database; returns the id of the last move. */
async function makeMany(drives: string): Promise<string> {
  const { database } = await import('@/server/database')
  const { ComputerRow, DriveRow, MoveRow } = await import('@/server/database/models')
  const { holdDataFolder } = await import('@/server/ground/data-folder')
  const sequelize = await database()
  const model = (await MoveRow.findByPk('ticket-desk'))!
  const computer = (await ComputerRow.findByPk(model.brief.computerId))!.data
  const benchId = model.benchId
  const [source, target] = await Promise.all(
    [model.brief.pairs[0].sourceId, model.brief.pairs[0].targetId!].map(
      async (id) => (await DriveRow.findByPk(id))!.data,
    ),
  )
  const named = (i: number) => String(i).padStart(4, '0')
  const columns = ['brief', 'intake', 'survey', 'route', 'fit', 'ready'] as const
  const texts = columns.map((name) => [name, model.getDataValue(name) as unknown as string | null] as const)
  let last = ''
  await sequelize.transaction(async (transaction) => {
    for (let i = 1; i <= COMPUTERS; i++) {
      const id = `many-${named(i)}`
      await ComputerRow.create({ id, benchId, data: { ...computer, id, name: `counter ${i}` } }, { transaction })
    }
    for (let i = 1; i <= DRIVES; i++) {
      const like = i % 2 ? source : target
      const id = `many-${named(i)}`
      const name = `${id}.img`
      linkSync(path.join(drives, like.file!), path.join(drives, name))
      const place =
        i % 2 && i < 2 * COMPUTERS
          ? { kind: 'slot' as const, computerId: `many-${named((i + 1) / 2)}`, slot: computer.homeSlot }
          : { kind: i % 2 && i % 5 === 0 ? ('shelf' as const) : ('table' as const) }
      const shelf = place.kind === 'shelf' ? { label: `counter ${i}`, until: '2027-03-01' } : undefined
      const data = { ...like, id, serial: `MANY-${named(i)}`, file: name, place, shelf }
      await DriveRow.create({ id, benchId, data }, { transaction })
    }
    for (let i = 1; i <= MOVES; i++) {
      last = `many-${named(i)}`
      const [from, to] = [`many-${named(2 * i - 1)}`, `many-${named(2 * i)}`]
      const own = (text: string | null) =>
        text
          ?.replaceAll(`"${source.id}"`, `"${from}"`)
          .replaceAll(`"${target.id}"`, `"${to}"`)
          .replaceAll(`"${model.brief.computerId}"`, `"many-${named(((i - 1) % COMPUTERS) + 1)}"`)
          .replaceAll(source.serial, `MANY-${named(2 * i - 1)}`)
          .replaceAll(target.serial, `MANY-${named(2 * i)}`)
      const row = MoveRow.build({ ...model.get(), id: last, position: 100 + i } as never)
      for (const [name, text] of texts) row.setDataValue(name, (own(text) ?? null) as never)
      await row.save({ transaction })
    }
  })
  await sequelize.close()
  await (await holdDataFolder()).release()
  return last
}
