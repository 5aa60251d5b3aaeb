import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { MIB } from '../bytes/size'
import { planCopy } from '../copy/plan'
import { runCopy } from '../copy/run'
import { surveyDrive } from '../survey/survey'
import { blake3, makeSystemDisk, sha256 } from '../testing-disk'
import { layoutFrom, layoutOnTheWay } from './onward'
import { defaultWish, solveFit } from './solve'

describe('a copy in two legs', () => {
  it('ends with the same partitions and contents as one that went straight', async () => {
    const source = await makeSystemDisk()
    const survey = await surveyDrive(source, sha256)
    const [via, straight, onward] = [1200, 900, 900].map((mib) => new MemoryDevice(mib * MIB))
    const wanted = solveFit(survey, { sizeBytes: 900 * MIB, logicalSectorSize: 512 }, defaultWish(survey))
    const carried = layoutOnTheWay(survey, await surveyDrive(via, sha256))
    if (!wanted.fits || !carried.fits) throw new Error('It does not fit.')
    const copy = async (from: MemoryDevice, to: MemoryDevice, layout: typeof wanted.layout) =>
      runCopy(await planCopy(from, layout), to, {
        digest: blake3,
        note: 'test',
        checkpoint: () => {},
        onStep: async () => {},
      })
    await copy(source as MemoryDevice, straight, wanted.layout)
    await copy(source as MemoryDevice, via, carried.layout)
    await copy(via, onward, layoutFrom(carried.layout, wanted.layout))
    const [a, b] = [await surveyDrive(straight, sha256), await surveyDrive(onward, sha256)]
    expect(b.partitions).toEqual(a.partitions)
    expect(b.table).toEqual(a.table)
    expect(b.loaders).toEqual(survey.loaders)
  })

  it('is refused where a partition is missing on the way', async () => {
    const survey = await surveyDrive(await makeSystemDisk(), sha256)
    const result = layoutOnTheWay(survey, { ...survey, sizeBytes: 1200 * MIB })
    if (!result.fits) throw new Error('It does not fit.')
    const { layout } = result
    expect(() => layoutFrom({ ...layout, partitions: [] }, layout)).toThrow(/not on the drive/)
  })
})
