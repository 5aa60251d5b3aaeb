import { spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { expect, it } from 'vitest'
import { systemDisk } from './support/loops'

// A computer that starts by UEFI keeps its entries in variables, which the kernel shows as files: here they are files of a
// mount namespace, since not every computer that runs this has such firmware.

const PLACE = '/sys/firmware/efi/efivars'
const GLOBAL = '8be4df61-93ca-11d2-aa0d-00e098032b8c'
/** A `/sys/firmware` of its own, with an order that names an entry which cannot be read. */
const OWN = [
  `mount -t tmpfs none /sys/firmware && mkdir -p ${PLACE} && cd ${PLACE}`,
  `printf '\\007\\000\\000\\000\\011\\000' > BootOrder-${GLOBAL}`,
  `printf '\\007\\000\\000\\000\\001' > Boot0009-${GLOBAL}`,
  `cd "$1" && shift && exec "$@"`,
].join(' && ')

const own = (...words: string[]) =>
  spawnSync('unshare', ['-m', 'sh', '-c', OWN, 'sh', process.cwd(), ...words], { encoding: 'utf8' })

// Where no mount namespace is to be had, this is skipped.
it.runIf(own('true').status === 0)(
  'gives a real firmware an entry for the new drive, and takes it back',
  { timeout: 60_000 },
  async () => {
    const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-firmware-'))
    const disk = path.join(folder, 'disk.img')
    await systemDisk(disk)
    const { stdout, stderr } = own(
      'node_modules/.bin/tsx',
      'tests/support/real-firmware.ts',
      disk,
      path.join(folder, 'kept.json'),
    )
    rmSync(folder, { recursive: true })
    expect(stderr).toBe('')
    expect(JSON.parse(stdout)).toEqual({
      // What could not be read keeps its turn.
      order: [['0009'], ['0000', '0009']],
      entry: { name: 'System', path: expect.stringMatching(/\\bootmgfw\.efi$/i), isActive: true },
      ...{ isOfTheDisk: true, isBack: true },
    })
  },
)
