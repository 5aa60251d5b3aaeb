import { execFile } from 'node:child_process'
import { request } from 'node:http'
import { closeSync, openSync, statSync, writeSync } from 'node:fs'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { Page } from './support/browser'
import { serve, type Served, startInVain } from './support/serve'
import { fromSurveyToReady, PLATE, settle, setPace, startCopy, toSurvey } from './support/steps'

let served: Served
let page: Page
const target = () => path.join(served.data, 'drives', 'crv5-960.img')

beforeAll(async () => {
  served = await serve()
  page = await Page.launch(served.url)
})

afterAll(async () => {
  await page.close()
  await served.close()
})

/** A request with any headers, which fetch would not send. */
function send(pathname: string, options: { method?: string; headers?: Record<string, string>; body?: string } = {}) {
  return new Promise<{ status: number; text: string }>((resolve, reject) => {
    const url = new URL(pathname, served.url)
    const sent = request(url, { method: options.method ?? 'GET', headers: options.headers }, (response) => {
      let text = ''
      response.on('data', (chunk: Buffer) => (text += chunk.toString()))
      response.on('end', () => resolve({ status: response.statusCode!, text }))
    })
    sent.on('error', reject)
    sent.end(options.body)
  })
}

const json = (body: string, headers: Record<string, string> = {}) => ({
  method: 'POST',
  headers: { 'content-type': 'application/json', ...headers },
  body,
})

describe('what is asked wrongly', () => {
  it('at an unknown address gets a page that says so', async () => {
    for (const address of [
      '/moves/none',
      '/moves/none/copy',
      '/moves/ticket-desk/nowhere',
      '/nothing',
      '/moves/..%2F..%2Fetc',
    ]) {
      await page.driver.get(served.url + address)
      await page.untilFinding(/There is nothing here/)
    }
  })

  it('of a way that cannot be carried out yet gets its reason, once it was taken', async () => {
    await page.open('/moves/survey-office/intake')
    await page.next(/Read the drives/)
    await page.untilText(/Findings/)
    await page.next(/Continue to Route/)
    await page.click(/^Over the network, while it runs/)
    await page.untilText(/Planned only: sending over the network from computer to computer is not possible yet/)
    await page.next(/Use this route/)
    await page.untilFinding(/It fits/)
    await page.next(/Lock this fit/)
    await page.next(/Continue to Ready/)
    await page.untilFinding(/cannot be carried out yet/)
    await page.untilText(/Sending over the network from computer to computer is not possible yet/)
    // The rest of the list stands all the same.
    await page.untilText(/The driver trmst9 for the new survey office PC is on the stick/)
  })

  it('ahead of its turn is sent to the station before', async () => {
    await page.open('/moves/ticket-desk/fit')
    expect(await page.finding()).toBe('Fit comes after Route')
    await page.next(/Go to Route/)
    await page.untilFinding(/Route comes after Survey/)
  })

  it.each([
    ['no JSON', '{', 400],
    ['the wrong form', '{"plate":7}', 400],
    ['nothing', '', 400],
    ['a list', '[]', 400],
    ['an unknown command', '{"command":"format"}', 400],
    ['a command while nothing runs', '{"command":"stop"}', 409],
    ['a start ahead of its turn', '{"plate":"4M1Q"}', 409],
  ])('with %s is answered with a sentence, and nothing is written', async (_what, body, status) => {
    const answer = await send('/api/moves/ticket-desk/copy', json(body))
    expect(answer.status).toBe(status)
    const { ok, sentence } = JSON.parse(answer.text)
    expect(ok).toBe(false)
    expect(sentence).toMatch(/^[A-Z].{15,}\.$/)
    expect(answer.text).not.toMatch(/\bat \w+.*:\d+:\d+|node_modules/)
    expect(statSync(target()).blocks).toBe(0)
  })

  it('for unknown moves and drives is answered with 404', async () => {
    expect((await send('/api/moves/none/copy', json('{"plate":"4M1Q"}'))).status).toBe(404)
    expect((await send('/api/moves/none/copy')).status).toBe(404)
    expect((await send('/api/bench/drives/none/place', json('{"place":{"kind":"table"}}'))).status).toBe(404)
  })

  it('puts no drive where it does not fit', async () => {
    const place = (body: unknown) => send('/api/bench/drives/crv5-960/place', json(JSON.stringify({ place: body })))
    const taken = await place({ kind: 'slot', computerId: 'ticket-desk', slot: 'SATA 0' })
    expect([taken.status, JSON.parse(taken.text).sentence]).toEqual([409, 'The Corvina S3 240 GB is there already.'])
    const wrong = await place({ kind: 'bay', accessoryId: 'nvme-enclosure', bay: 'slot' })
    expect(wrong.status).toBe(409)
    const none = await place({ kind: 'slot', computerId: 'ticket-desk', slot: 'SATA 9' })
    expect(JSON.parse(none.text).sentence).toBe('There is no such place on the bench.')
  })
})

describe('the server', () => {
  it('answers only to its own name', async () => {
    expect((await send('/', { headers: { host: 'museum.example' } })).status).toBe(421)
    expect((await send('/api/moves/ticket-desk/copy', { headers: { host: 'museum.example:80' } })).status).toBe(421)
    expect((await send('/api/images/upload', { method: 'POST', headers: { host: 'museum.example' } })).status).toBe(421)
    for (const name of ['localhost', 'LocalHost', '[::1]']) {
      expect((await send('/', { headers: { host: `${name}:${new URL(served.url).port}` } })).status).toBe(200)
    }
  })

  it('takes no change from another site', async () => {
    const body = '{"place":{"kind":"table"}}'
    const from = (headers: Record<string, string>) => send('/api/bench/drives/crv5-960/place', json(body, headers))
    expect((await from({ origin: 'http://museum.example' })).status).toBe(403)
    expect((await from({ 'sec-fetch-site': 'cross-site' })).status).toBe(403)
    expect((await from({ origin: 'null' })).status).toBe(403)
    const upload = { origin: 'http://museum.example', 'tus-resumable': '1.0.0', 'upload-length': '512' }
    expect((await send('/api/images/upload', { method: 'POST', headers: upload })).status).toBe(403)
    expect(
      (
        await send('/moves/ticket-desk/intake', {
          method: 'POST',
          headers: { origin: 'http://museum.example', 'next-action': 'x' },
        })
      ).status,
    ).toBe(403)
  })
})

describe('a malformed request', () => {
  it('has an answer that is no fault of the server', async () => {
    for (const address of [
      ...[
        '/%',
        '/images/%',
        '/moves/%ff/intake',
        '/moves/a%00b/intake',
        '/computers/%00',
        `/moves/${'x'.repeat(5000)}/fit`,
      ],
      ...['/api/jobs/%', '/api/moves/%E0%A4%A/copy', '/api/images/files/%ff', '/api/images/upload/%'],
      ...[
        '/api/look/files?kind=drives&id=%00&partition=1&path=/',
        '/api/look/sector?kind=drives&id=crv3-240&lba=1e400',
      ],
    ]) {
      const { status } = await send(address)
      expect([400, 404, 405, 431], address).toContain(status)
    }
    const deep = `${'['.repeat(200_000)}${']'.repeat(200_000)}`
    for (const [address, body] of [
      ['/api/moves/ticket-desk/copy', deep],
      ['/api/moves/ticket-desk/copy', '"'],
      ['/api/images/bench', '{"image":"a\\u0000b"}'],
      ['/api/images/bench', '{"image":"\\ud800"}'],
      ['/api/benches/import', deep],
      [
        '/api/benches/import',
        '{"format":"imbarco bench","version":1,"name":"a\\u0000b","computers":[],"accessories":[],"drives":[]}',
      ],
    ] as const) {
      const { status, text } = await send(address, json(body))
      expect([400, 409], `${address}: ${text}`).toContain(status)
      expect(JSON.parse(text)).toMatchObject({
        ok: false,
        code: expect.any(String),
        sentence: expect.stringMatching(/\.$/),
      })
    }
    expect((await send('/')).status).toBe(200)
  })
})

describe('the data folder', () => {
  /** Runs a program beside the server, on the same data folder. */
  const second = (command: string, ...args: string[]) =>
    new Promise<{ status: number | string | null | undefined; stderr: string }>((resolve) => {
      const env = { ...process.env, IMBARCO_DATA: served.data, NODE_ENV: 'production' as const }
      execFile(command, args, { env, timeout: 60_000 }, (error, _out, stderr) =>
        resolve({ status: error?.code, stderr }),
      )
    })

  it('is one server’s: a second one ends at its start, and nothing is made anew under the first', async () => {
    const server = await startInVain(served.data)
    expect(server.code).toBe(1)
    expect(server.said).toMatch(/data folder .* is in use by process \d+/)
    const reset = await second('node_modules/.bin/tsx', 'scripts/make-bench.ts', '--reset')
    expect(reset.status).toBe(1)
    expect(reset.stderr).toMatch(/is in use by process \d+/)
    expect((await send('/api/benches/schema')).status).toBe(200)
    await page.open('/')
    await page.untilText(/Ticket desk/)
  })
})

describe('a copy', () => {
  /** Surveys a target with an unfinished copy on it, so that another one may start. */
  const surveyUnfinished = async () => {
    await page.open('/moves/ticket-desk/survey')
    await page.click(/Read again/)
    await page.untilText(/an unfinished copy/)
    await fromSurveyToReady(page)
    await page.untilFinding(/^It can start/)
  }

  it('does not start when the target has changed since it was surveyed', async () => {
    await toSurvey(page)
    await fromSurveyToReady(page)
    await settle(page)
    // Another program writes a table onto the drive behind everyone's back.
    const file = openSync(target(), 'r+')
    writeSync(file, Buffer.from('another drive altogether'), 0, 24, 512)
    closeSync(file)
    const refused = await send('/api/moves/ticket-desk/copy', json(JSON.stringify({ plate: PLATE })))
    expect(refused.status).toBe(409)
    expect(JSON.parse(refused.text).sentence).toMatch(/has changed since it was surveyed.*Nothing was written\.$/)
    await page.driver.navigate().refresh()
    await page.untilText(/The Corvina S5 960 GB has changed since it was surveyed/)
    await page.open('/moves/ticket-desk/survey')
    await page.click(/Read again/)
    // Only the new reading knows what the target holds now.
    await page.untilText(/holds something that cannot be told/)
    await fromSurveyToReady(page)
    await page.untilFinding(/^It can start/)
  })

  it('is started and resumed once, however often that is asked for at one moment', async () => {
    // What the page sends for a copy goes out four times at once.
    await page.driver.executeScript(`
      const send = window.fetch
      window.fetch = async (...request) => {
        if (!String(request[0]).endsWith('/copy')) return send(...request)
        const answers = await Promise.all([1, 2, 3, 4].map(() => send(...request)))
        document.documentElement.dataset.answers = answers.map((a) => a.status).sort().join()
        return answers.find((a) => a.ok) ?? answers[0]
      }
    `)
    const answers = () => page.driver.executeScript('return document.documentElement.dataset.answers')
    await startCopy(page)
    await page.untilFinding(/GiB of 202\.0 GiB copied/)
    expect(await answers()).toBe('200,409,409,409')
    await page.driver.navigate().refresh()
    await page.click(/^Stop/)
    await page.untilFinding(/The copy was stopped/)
    const resume = () => send('/api/moves/ticket-desk/copy', json('{"command":"go-on"}'))
    const resumed = await Promise.all([resume(), resume(), resume(), resume()])
    expect(resumed.map((r) => r.status).sort()).toEqual([200, 409, 409, 409])
    await page.untilFinding(/GiB of 202\.0 GiB copied/)
    await page.click(/^Stop/)
    await page.untilFinding(/The copy was stopped/)
    await surveyUnfinished()
  })

  it('ends in a sentence when a drive is taken out, and the target stays marked', async () => {
    await startCopy(page)
    await page.untilFinding(/GiB of 202\.0 GiB copied/)
    // Whoever pulls it is told first what that cuts off.
    const taken = await send('/api/bench/drives/crv5-960/place', json('{"place":{"kind":"table"}}'))
    expect([taken.status, JSON.parse(taken.text)]).toMatchObject([409, { code: 'drive-cuts-off' }])
    await page.open('/bench')
    await page.click(/Pick up the Corvina S5 960 GB/)
    await page.untilFinding(/The Corvina S5 960 GB is in hand/)
    await page.click(/Put it here.*table/s)
    await page.untilText(/Pull it in the middle/)
    await page.click(/Pull it all the same/)
    await page.open('/moves/ticket-desk/copy')
    await page.untilFinding(/The copy was cut off/)
    await page.untilText(/The Corvina S5 960 GB \(USB dock A, bay 1\) is no longer connected/)
    await page.next(/Resume the copy/)
    await page.untilText(/It cannot be resumed yet: The Corvina S5 960 GB is not connected/)
    await page.click(/^Start it over/)
    await page.untilText(/The Corvina S5 960 GB is not connected/)
    await page.open('/bench')
    await page.click(/Pick up the Corvina S5 960 GB/)
    await page.untilFinding(/The Corvina S5 960 GB is in hand/)
    await page.click(/Put it here.*USB dock A, bay 1/s)
    await page.untilFinding(/One drive is failing/)
  })

  it('can be stopped by hand and started over to the end', async () => {
    await page.open('/moves/ticket-desk/ready')
    await page.untilFinding(/^It can start/)
    await startCopy(page)
    await page.untilFinding(/GiB of 202\.0 GiB copied/)
    await page.click(/^Stop/)
    await page.untilFinding(/The copy was stopped/)
    await surveyUnfinished()
    await startCopy(page)
    await setPace(page, /as fast as it goes/)
    await page.untilFinding(/reads back equal/, 240_000)
    const again = await send('/api/moves/ticket-desk/copy', json(JSON.stringify({ plate: PLATE })))
    expect(again.status).toBe(409)
  })
})
