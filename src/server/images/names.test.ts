import { mkdirSync, symlinkSync, writeFileSync } from 'node:fs'
import path from 'node:path'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { utf8Bytes } from '@/core/words'

import { dataFolder, imagesFolder } from '../ground/paths'
import { refusalCode } from '../ground/testing'
import { freeName, imagePath, ImageNameSchema, newImagePath } from './names'

const folder = dataFolder()

describe('the name of an image', () => {
  it('that is wished for becomes one that every file system takes, and keeps its extension', async () => {
    const anyName = fc.string({ unit: 'binary', maxLength: 300 })
    await fc.assert(
      fc.asyncProperty(anyName, fc.constantFrom('.img', '.vhdx', '', '.tar.zst'), async (stem, extension) => {
        const name = await freeName(`${stem}x${extension}`)
        expect(ImageNameSchema.safeParse(name).error).toBeUndefined()
        expect(name.endsWith(path.extname(extension))).toBe(true)
        writeFileSync(path.join(imagesFolder(), `.${name}.12345678.partial`), '')
      }),
      { numRuns: 60 },
    )
  })

  it('is cut at a whole character, however many code points that has', async () => {
    const family = '👩‍👩‍👧‍👦'
    const name = await freeName(`${family.repeat(20)}.img`)
    expect(name.replace('.img', '').replaceAll(family, '')).toBe('')
    expect(utf8Bytes(name)).toBeLessThanOrEqual(180)
    expect(await freeName(`${'é'.repeat(300)}.vhdx`)).toMatch(/^é+\.vhdx$/)
  })

  it('is refused where no file could have it', async () => {
    for (const name of ['', ' a', 'a ', '.a', 'a/b', 'a\0b', '\ud800a', 'é'.repeat(91)])
      expect(ImageNameSchema.safeParse(name).success, JSON.stringify(name)).toBe(false)
    expect(ImageNameSchema.safeParse('é'.repeat(90)).success).toBe(true)
  })

  it('leads to a file of the folder only', async () => {
    mkdirSync(path.join(imagesFolder(), 'folder'), { recursive: true })
    writeFileSync(path.join(folder, 'outside.img'), '')
    symlinkSync(path.join(folder, 'outside.img'), path.join(imagesFolder(), 'link.img'))
    writeFileSync(path.join(imagesFolder(), 'there.img'), '')
    expect(await refusalCode(imagePath('link.img'))).toBe('image-outside')
    expect(await refusalCode(imagePath('folder'))).toBe('image-no-file')
    expect(await refusalCode(imagePath('none.img'))).toBe('image-unknown')
    expect(await refusalCode(newImagePath('there.img'))).toBe('image-name-taken')
    expect(path.basename(await imagePath('there.img'))).toBe('there.img')
  })
})
