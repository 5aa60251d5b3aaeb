import { execFileSync } from 'node:child_process'
import { copyFileSync, mkdirSync, mkdtempSync, readFileSync, rmSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { surveyDrive } from '@/core/survey/survey'
import { sha256 } from '@/core/testing-disk'
import { openHostImage } from '@/host/images'

// Volumes copied while the kernel had them mounted, as after a power cut: their files are in the journal, and their maps
// of used blocks are older. What the command copies of them is mounted by the kernel, which carries the journal out.

const run = (program: string, ...args: string[]) =>
  execFileSync(program, args, {
    encoding: 'utf8',
    stdio: 'pipe',
    env: { ...process.env, PATH: `${process.env.PATH}:/usr/sbin:/sbin` },
  })
let folder: string
const at = (name: string) => path.join(folder, name)
beforeAll(() => (folder = mkdtempSync(path.join(tmpdir(), 'imbarco-journal-'))))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

const content = (i: number) => Buffer.alloc(20_000 + i * 531, `log entry ${i} `)

function mounted<T>(file: string, work: (folder: string) => T): T {
  const place = at('mounted')
  mkdirSync(place, { recursive: true })
  run('mount', '-o', 'loop', file, place)
  try {
    return work(place)
  } finally {
    run('umount', place)
  }
}

describe.skipIf(process.getuid?.() !== 0)('a volume whose journal was not carried out', () => {
  it.each(['ext3', 'ext4'])('of the kind %s keeps every file that was synced, in the copy', async (kind) => {
    const live = at(`${kind}-live.img`)
    writeFileSync(live, '')
    truncateSync(live, 96 * 1024 * 1024)
    run('mkfs.ext4', '-q', '-F', '-t', kind, live)
    const cut = at(`${kind}-cut.img`)
    mounted(live, (place) => {
      for (let i = 0; i < 60; i++) {
        writeFileSync(path.join(place, `${i}.log`), content(i))
        run('sync', path.join(place, `${i}.log`))
      }
      copyFileSync(live, cut)
    })
    // In a partition, as a system has it: what has no table is taken as it is anyway.
    const disk = at(`${kind}-disk.img`)
    writeFileSync(disk, '')
    truncateSync(disk, 100 * 1024 * 1024)
    run('sgdisk', '-n', '1:2048:+96M', '-t', '1:8300', disk)
    run('dd', `if=${cut}`, `of=${disk}`, 'bs=1M', 'seek=1', 'conv=notrunc,sparse')
    const image = await openHostImage(disk, { sectorSize: 512 })
    const survey = await surveyDrive(image.device, sha256)
    await image.close()
    expect(survey.partitions[0].volume!.everySector).toBeDefined()
    const copy = at(`${kind}-copy.vhdx`)
    const said = run('bin/imbarco', 'copy', disk, copy, '--json')
    expect(JSON.parse(said)).toMatchObject({ verified: true })
    const back = at(`${kind}-back.img`)
    run('bin/imbarco', 'convert', copy, back, '--to', 'raw')
    const volume = at(`${kind}-volume.img`)
    run('dd', `if=${back}`, `of=${volume}`, 'bs=1M', 'skip=1', 'count=96')
    const right = mounted(volume, (place) =>
      Array.from({ length: 60 }, (_, i) => i).filter((i) =>
        readFileSync(path.join(place, `${i}.log`)).equals(content(i)),
      ),
    )
    expect(right).toHaveLength(60)
  })
})
