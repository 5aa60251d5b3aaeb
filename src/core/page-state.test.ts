import { expect, it } from 'vitest'
import { showsAll } from './page-state'

it('is behind after a further change, and of another server whatever that counts', () => {
  const shown = { server: 'a', changes: 5 }
  const shows = (server: string, changes: number) => showsAll(shown, { server, changes })
  expect([shows('a', 4), shows('a', 5), shows('a', 6), shows('b', 4)]).toEqual([true, true, false, false])
})
