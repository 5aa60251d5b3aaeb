import { beforeAll, describe, expect, it } from 'vitest'
import type { BlockDevice } from '../block/device'
import { eraseDevice } from '../block/erase'
import { MemoryDevice } from '../block/memory'
import { readOnly } from '../block/readonly'
import { MIB } from '../bytes/size'
import { solveFit } from '../fit/solve'
import { applyRepair, NotPutBack, type RepairRecord, settleRepair, undoRepair } from '../repair/apply'
import { makeDataVolume } from '../reuse/data-volume'
import { surveyDrive } from '../survey/survey'
import { blake3, makeSystemDisk, sha256 } from '../testing-disk'
import { CheckFailed } from './check'
import { type CopyPlan, planCopy } from './plan'
import { runCopy } from './run'

const SIZE = 300 * MIB

/**
 * A drive behind a memory that gives back whatever was written, until that is let go of. Of what is written from a place on
 * its medium keeps nothing, as one does that is smaller than it says.
 */
class ForgetfulDrive implements BlockDevice {
  readonly logicalSectorSize = 512
  readonly physicalSectorSize = 4096
  private readonly memory = new MemoryDevice(SIZE)
  private readonly medium = new MemoryDevice(SIZE)
  private isInMemory = false

  constructor(
    private readonly from: number,
    readonly size = SIZE,
  ) {}

  read(offset: number, into: Uint8Array): Promise<void> {
    return (this.isInMemory ? this.memory : this.medium).read(offset, into)
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    this.isInMemory = true
    await this.memory.write(offset, from)
    if (offset < this.from) await this.medium.write(offset, from)
  }

  async flush(): Promise<void> {}

  async uncache(): Promise<void> {
    this.isInMemory = false
  }
}

let plan: CopyPlan

beforeAll(async () => {
  const source = await makeSystemDisk({ sizeBytes: 220 * MIB })
  const fit = solveFit(await surveyDrive(source, sha256), { sizeBytes: SIZE, logicalSectorSize: 512 })
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  plan = await planCopy(readOnly(source), fit.layout)
})

describe('a drive that forgets what memory still gives back', () => {
  it.each([120 * MIB, SIZE - 33 * 512])('is found out by a copy, from byte %i on', async (from) => {
    const copy = runCopy(plan, new ForgetfulDrive(from), {
      digest: blake3,
      note: '',
      job: 'job',
      work: 'work',
      onStep: async () => {},
    })
    await expect(copy).rejects.toBeInstanceOf(CheckFailed)
  })

  it('is found out by a repair', async () => {
    const patches = [{ offset: SIZE - 512, before: new Uint8Array(512), after: new Uint8Array(512).fill(7) }]
    const made = { name: 'x', title: 'x', changes: ['x'], patches }
    await expect(applyRepair(new ForgetfulDrive(MIB), made, { keep: async () => {} })).rejects.toThrow(
      /does not give back/,
    )
  })

  it('is not called put back where a repair is undone, and its journal keeps what stood there', async () => {
    const record = {
      ...{ kind: 'repair' as const, name: 'x', title: 'x', changes: [] },
      patches: [{ offset: SIZE - 512, before: new Uint8Array(512).fill(7), after: new Uint8Array(512) }],
    }
    const states: string[] = []
    const journal = { keep: async (text: string) => void states.push((JSON.parse(text) as RepairRecord).state) }
    const drive = new ForgetfulDrive(MIB)
    await expect(undoRepair(drive, { ...record, state: 'done' }, journal)).rejects.toBeInstanceOf(NotPutBack)
    await expect(settleRepair(drive, { ...record, state: 'writing' }, journal)).rejects.toBeInstanceOf(NotPutBack)
    expect(states).toEqual(['writing'])
  })

  it('is found out where a volume is made on it', async () => {
    const wish = { kind: 'ntfs' as const, label: 'A', time: 0n, chance: new Uint8Array(48).fill(3) }
    await expect(makeDataVolume(new ForgetfulDrive(2 * MIB), wish)).rejects.toThrow()
  })

  it('is found out by an erase', async () => {
    // What was on it before is what it gives again.
    class Kept extends ForgetfulDrive {
      override async read(offset: number, into: Uint8Array): Promise<void> {
        await super.read(offset, into)
        if (offset >= 100 * MIB && this.isForgotten) into.fill(9)
      }
      isForgotten = false
      override async uncache(): Promise<void> {
        await super.uncache()
        this.isForgotten = true
      }
    }
    await expect(eraseDevice(new Kept(100 * MIB), 'zeros')).rejects.toThrow(/not erased/)
  })
})
