import { setImmediate } from 'node:timers/promises'
import { describe, expect, it } from 'vitest'
import { inBenchQueue, inMoveQueue } from './queue'

/** Notes when it begins and ends, so that changes that overlap are seen. */
function change(notes: string[], name: string) {
  return async () => {
    notes.push(`${name} begins`)
    for (let i = 0; i < 3; i++) await setImmediate()
    notes.push(`${name} ends`)
  }
}

describe('changes of a move', () => {
  it('are made one after the other, and beside those of other moves', async () => {
    const notes: string[] = []
    await Promise.all([
      inMoveQueue('a', change(notes, 'first')),
      inMoveQueue('a', change(notes, 'second')),
      inMoveQueue('b', change(notes, 'other')),
    ])
    expect(notes.filter((note) => !note.startsWith('other'))).toEqual([
      'first begins',
      'first ends',
      'second begins',
      'second ends',
    ])
    expect(notes.indexOf('other begins')).toBeLessThan(notes.indexOf('first ends'))
  })

  it('go on after one that failed', async () => {
    const failed = inMoveQueue('a', () => Promise.reject(new Error('no')))
    const next = inMoveQueue('a', async () => 'done')
    await expect(failed).rejects.toThrow('no')
    expect(await next).toBe('done')
  })

  it('run at once within one of the same move, and take the turn of the bench from there', async () => {
    const result = await inMoveQueue('a', () => inMoveQueue('a', () => inBenchQueue(async () => 'done')))
    expect(result).toBe('done')
    await expect(inBenchQueue(async () => inMoveQueue('a', async () => {}))).rejects.toThrow(/cannot wait/)
  })

  it('wait for their turn when they were begun in one that is over', async () => {
    const notes: string[] = []
    let goOn = () => {}
    const gate = new Promise<void>((resolve) => (goOn = resolve))
    let background = Promise.resolve()
    await inMoveQueue('a', async () => {
      background = gate.then(() => inMoveQueue('a', change(notes, 'background')))
    })
    const next = inMoveQueue('a', change(notes, 'next'))
    goOn()
    await Promise.all([next, background])
    expect(notes).toEqual(['next begins', 'next ends', 'background begins', 'background ends'])
  })
})
