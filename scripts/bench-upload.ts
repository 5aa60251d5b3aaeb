// A large image through a real browser: its throughput beside a plain copy of the same file, and a reload in the middle.
import { createHash, randomFillSync } from 'node:crypto'
import {
  closeSync,
  copyFileSync,
  createReadStream,
  fsyncSync,
  openSync,
  readdirSync,
  rmSync,
  statSync,
  writeSync,
} from 'node:fs'
import path from 'node:path'
import { pipeline } from 'node:stream/promises'
import { GIB, MIB } from '@/core/bytes/size'
import { Page } from '../tests/browser/support/browser'
import { serve } from '../tests/browser/support/serve'
import type { Line } from './bench-images'

const SIZE = 3 * GIB

/** Uploads 3 GiB that cannot be packed, once in one go and once with a reload of the page in the middle. */
export async function benchUpload(folder: string, line: Line): Promise<void> {
  const served = await serve({ warm: true })
  const page = await Page.launch(served.url)
  const seconds = (from: number) => (performance.now() - from) / 1000
  const rate = (taken: number) => `${(SIZE / taken / 1e6).toFixed(0)} MB/s`
  try {
    const digest = makeFile(path.join(folder, 'large.img'))
    const copied = performance.now()
    copyFileSync(path.join(folder, 'large.img'), path.join(folder, 'plain copy.img'))
    const file = openSync(path.join(folder, 'plain copy.img'), 'r+')
    fsyncSync(file)
    closeSync(file)
    const plain = seconds(copied)
    rmSync(path.join(folder, 'plain copy.img'))
    line('3 GiB copied by the system', rate(plain))
    const choose = async () => {
      const input = await page.driver.findElement({ css: 'input[type="file"]' })
      await input.sendKeys(path.join(folder, 'large.img'))
    }
    const arrived = async (name: string) => {
      const place = path.join(served.data, 'images', name)
      await page.driver.wait(() => statSync(place, { throwIfNoEntry: false }) !== undefined, 600_000)
      const hash = createHash('sha256')
      await pipeline(createReadStream(place), hash)
      if (hash.digest('hex') !== digest) throw new Error(`${name} is another file.`)
    }
    await page.open('/images')
    const whole = performance.now()
    await choose()
    await page.driver.wait(
      () => statSync(path.join(served.data, 'images', 'large.img'), { throwIfNoEntry: false }) !== undefined,
      600_000,
    )
    const taken = seconds(whole)
    line('3 GiB uploaded by a browser', `${rate(taken)}, ${(taken / plain).toFixed(2)} times the time`)
    await arrived('large.img')
    rmSync(path.join(served.data, 'images', 'large.img'))

    await page.open('/images')
    await choose()
    await page.driver.wait(() => unfinished(served.data).size > SIZE / 2, 600_000)
    await page.open('/images')
    const { size: kept } = unfinished(served.data)
    await choose()
    await arrived('large.img')
    line('  with a reload of the page at', `${(kept / MIB).toFixed(0)} MiB, gone on from there; equal`)
  } finally {
    await page.close()
    await served.close()
  }
}

/** The one upload that is not whole yet. */
function unfinished(data: string): { size: number } {
  const folder = path.join(data, 'uploads')
  const name = readdirSync(folder).find((n) => !n.endsWith('.json'))
  return name === undefined ? { size: 0 } : statSync(path.join(folder, name))
}

/** Makes the file; returns its digest. */
function makeFile(place: string): string {
  const hash = createHash('sha256')
  const file = openSync(place, 'w')
  const piece = new Uint8Array(16 * MIB)
  for (let at = 0; at < SIZE; at += piece.length) {
    randomFillSync(piece)
    hash.update(piece)
    writeSync(file, piece)
  }
  closeSync(file)
  return hash.digest('hex')
}
