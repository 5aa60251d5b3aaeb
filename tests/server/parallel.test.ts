import { afterAll, beforeAll, describe, expect, it } from 'vitest'

import * as actions from '@/app/actions'
import { benchState, driveById, placeDrive } from '@/server/world'
import { importBench, listBenches, showBench } from '@/server/world/benches'
import { openDemoBench } from '../support/open-demo-bench'
import { database } from '@/server/database'
import { MoveRow } from '@/server/database/models'
import { jobEnd } from '@/server/jobs'
import { leasableDrive, takeLease } from '@/server/leases'
import { moveRow } from '@/server/moves'
import { movePage } from '@/server/moves/page'
import { reservedDrives } from '@/server/moves/reserved-drives'
import { boardState } from '@/server/pages/board'
import { pastMoves } from '@/server/pages/past'
import * as views from '@/server/stations/testing'
import { answer, type Answer } from '@/server/ground/answer'
import { refusalCode, refused } from '@/server/ground/testing'

const MOVE = 'ticket-desk'

beforeAll(async () => {
  await openDemoBench()
})

afterAll(async () => {
  await (await database()).close()
})

/** The same request three times at one moment: how many were carried out. Whatever was not has a sentence. */
async function atOnce(request: () => Promise<Answer<unknown>>): Promise<number> {
  const answers = await Promise.all([request(), request(), request()])
  for (const one of answers) {
    if (one.ok) continue
    expect(one.status, one.sentence).toBeLessThan(500)
    expect(one.sentence).toMatch(/\.$/)
  }
  const ends = await Promise.all(answers.map((one) => one.ok && (!jobOf(one.value) || jobEnd(jobOf(one.value)!))))
  return ends.filter((end) => end === true || (end && end.state === 'done')).length
}

const jobOf = (value: unknown) => (value as { job?: string } | undefined)?.job

describe('requests at one moment', () => {
  it('take a move from station to station as one would', async () => {
    expect(await atOnce(() => actions.confirmIntake(MOVE))).toBeGreaterThan(0)
    expect(await atOnce(() => actions.readDrives(MOVE))).toBeGreaterThan(0)
    expect(await atOnce(() => actions.confirmSurvey(MOVE))).toBeGreaterThan(0)
    const [first] = (await views.routeView(await movePage(MOVE))).plans
    expect(await atOnce(() => actions.takeRoute(MOVE, first.id))).toBeGreaterThan(0)
    const wish = { rules: { '3': 'fill' }, sizes: {}, reserve: 0 }
    expect(await atOnce(() => actions.lockFit(MOVE, { wish }))).toBeGreaterThan(0)
    const row = await moveRow(MOVE)
    expect([row.intake, row.survey?.confirmed, row.route, row.fit?.pairs.length]).toEqual([
      expect.anything(),
      true,
      expect.anything(),
      1,
    ])
  })

  it('lose none of several choices', async () => {
    const choose = (choices: object) => actions.settle(MOVE, { action: 'choose', choices })
    const answers = await Promise.all([
      choose({ verify: false }),
      choose({ skipPageFiles: true }),
      choose({ tries: 5 }),
    ])
    expect(answers.every((one) => one.ok)).toBe(true)
    expect((await moveRow(MOVE)).ready?.choices).toMatchObject({ verify: false, skipPageFiles: true, tries: 5 })
  })

  it('put one drive into a bay, not two', async () => {
    const free = (await benchState()).drives.filter((d) => d.place.kind === 'table' || d.place.kind === 'shelf')
    const place = { kind: 'bay', accessoryId: 'dock-a', bay: 'bay 2' } as const
    const answers = await Promise.all(free.map(({ id }) => answer(() => placeDrive(id, place))))
    const there = (await benchState()).drives.filter((d) => JSON.stringify(d.place) === JSON.stringify(place))
    expect([answers.filter((one) => one.ok).length, there.length]).toEqual([1, 1])
  })

  it('give a target to one move', async () => {
    const { brief } = await moveRow('lighting-desk')
    await MoveRow.destroy({ where: { id: 'lighting-desk' } })
    expect(await atOnce(() => actions.newMove(brief))).toBe(1)
  })

  it('make benches of different names', async () => {
    const file = JSON.stringify({
      format: 'imbarco bench',
      version: 1,
      name: 'Second bench',
      computers: [],
      accessories: [],
      drives: [],
    })
    await Promise.all([importBench(file), importBench(file)])
    const names = (await listBenches()).map((bench) => bench.name)
    expect(names.filter((name) => name.startsWith('Second bench')).sort()).toEqual(['Second bench', 'Second bench (2)'])
  })
})

describe('a drive that is in use', () => {
  it('is read by several, and by nobody else while it is written', async () => {
    const [drive, other] = await Promise.all(['crv5-960', 'crv3-240'].map(driveById))
    const [thing, second] = await Promise.all([drive, other].map(leasableDrive))
    const reading = [1, 2].map(() => takeLease({ purpose: 'a survey', read: [thing] }))
    expect(await refused((async () => takeLease({ purpose: 'an erase', write: [thing] }))())).toMatch(
      /The Corvina S5 960 GB is in use by a survey\. Nothing was written\.$/,
    )
    for (const lease of reading) lease.release()
    const writing = takeLease({ purpose: 'an erase', read: [second], write: [thing] })
    expect(await refused((async () => takeLease({ purpose: 'a survey', read: [thing] }))())).toMatch(/by an erase/)
    // Hands leave it where it is, too, and what is refused is refused as a whole.
    expect(await refused(placeDrive(drive.id, { kind: 'table' }))).toMatch(/in use by an erase.* stays where it is/)
    const more = { purpose: 'a repair', write: [second, thing] }
    expect(await refused((async () => takeLease(more))())).toMatch(/in use/)
    writing.release()
    takeLease(more).release()
  })

  it('is known by its bytes, whatever it is called', async () => {
    const drive = await driveById('crv5-960')
    const twin = { ...drive, id: 'twin', serial: 'CRV5-0000-0000' }
    const [thing, same] = await Promise.all([drive, twin].map(leasableDrive))
    expect(await refusalCode((async () => takeLease({ purpose: 'a copy', read: [thing], write: [same] }))())).toBe(
      'same-bytes',
    )
  })
})

describe('a move that is laid aside', () => {
  beforeAll(() => showBench('molo-sette'))

  it('is put off and taken up again, and nothing of it is changed meanwhile', async () => {
    const why = { why: 'the customer is at sea' }
    expect(await atOnce(() => actions.putOffMove('survey-office', why))).toBeGreaterThan(0)
    const refusedFor = async (answer: Promise<Answer<unknown>>) => {
      const got = await answer
      return got.ok ? '' : got.sentence
    }
    expect(await refusedFor(actions.confirmIntake('survey-office'))).toMatch(/put off\. Take it up again/)
    expect((await boardState()).moves.find((m) => m.id === 'survey-office')).toMatchObject({ tone: 'not-yet' })
    expect(await atOnce(() => actions.takeUpMove('survey-office'))).toBe(1)
    expect((await moveRow('survey-office')).standing).toBeNull()
  })

  it('is given up once, which frees its drives and leaves it among past moves', async () => {
    const { brief, benchId } = await moveRow('survey-office')
    const target = brief.pairs[0].targetId!
    const taken = async () => (await reservedDrives(await benchState(), benchId, undefined)).has(target)
    expect(await taken()).toBe(true)
    expect(await atOnce(() => actions.giveUpMove('survey-office', { why: 'the computer was stolen' }))).toBe(1)
    expect(await taken()).toBe(false)
    expect((await boardState()).moves.some((m) => m.id === 'survey-office')).toBe(false)
    expect((await pastMoves('')).found).toMatchObject([{ id: 'survey-office', givenUp: 'the computer was stolen' }])
    for (const again of [
      actions.confirmIntake('survey-office'),
      actions.putOffMove('survey-office', { why: 'later' }),
      actions.takeUpMove('survey-office'),
    ])
      expect(await again).toMatchObject({ ok: false, status: 409 })
  })

  it('is renamed at any station, but not while a copy has marked its target with the name', async () => {
    expect(await actions.renameMove(MOVE, { name: ' Ticket office ', customer: 'Lanterna museum' })).toEqual({
      ok: true,
      value: undefined,
    })
    expect((await moveRow(MOVE)).brief.name).toBe('Ticket office')
    expect(await actions.renameMove(MOVE, { name: ' ', customer: 'x' })).toMatchObject({ ok: false, status: 400 })
  })
})
