import { afterAll, beforeAll, expect } from 'vitest'
import { Page } from './browser'
import type { Reached } from '../../support/stages'
import { serve, type Served } from './serve'

/** Gives the tests of a file a server with a demo bench of its own, on which `moves` stand further on, and a browser that has to have nothing to complain of. */
export function onOwnBench(
  given: (page: Page, served: Served) => void,
  moves?: Readonly<Record<string, Reached>>,
): void {
  let page: Page
  let served: Served
  beforeAll(async () => {
    served = await serve({ moves })
    page = await Page.launch(served.url)
    given(page, served)
  })
  afterAll(async () => {
    expect(await page.complaints()).toEqual([])
    await page.close()
    await served.close()
  })
}
