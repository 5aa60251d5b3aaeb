import { createHash } from 'node:crypto'
import { mkdtempSync, readFileSync, rmSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { DeviceGone } from '@/core/block/device'
import type { SeenDevice } from '@/core/things/drive'
import { canHaveLoops, Loops } from './support/loops'
import { listDrives, seenDevice } from '@/host/devices/describe'
import { EmulatedComputer, type EmulatedOrder, findEmulator } from '@/host/emulator'

const emulator = await findEmulator()
const WORDS = 'the pier is open\r\n'

/**
 * A boot sector that writes over its own disk, and then says its words on the serial line: `mov ax,0301h; mov cx,9; xor dh,dh;
 * mov bx,7c00h; int 13h`, and each byte by `out dx,al` until a zero.
 */
function bootSector(): Uint8Array {
  const code = [
    ...[0x31, 0xc0, 0x8e, 0xd8, 0x8e, 0xc0],
    ...[0xb8, 0x01, 0x03, 0xb9, 0x09, 0x00, 0x30, 0xf6, 0xbb, 0x00, 0x7c, 0xcd, 0x13],
    ...[0xbe, 0x40, 0x7c, 0xba, 0xf8, 0x03, 0xac, 0x84, 0xc0, 0x74, 0x03, 0xee, 0xeb, 0xf8, 0xf4, 0xeb, 0xfd],
  ]
  const sector = new Uint8Array(512)
  sector.set(code)
  sector.set(new TextEncoder().encode(WORDS), 0x40)
  sector.set([0x55, 0xaa], 510)
  return sector
}

// Where no emulator is installed, this is skipped as a whole.
describe.runIf(emulator !== undefined)('an emulated computer', () => {
  let folder: string
  let order: EmulatedOrder
  const digest = () => createHash('sha256').update(readFileSync(order.disk.file)).digest('hex')

  beforeAll(() => {
    folder = mkdtempSync(path.join(tmpdir(), 'imbarco-emulator-'))
    const file = path.join(folder, 'a disk, with a comma.img')
    writeFileSync(file, bootSector())
    truncateSync(file, 8 * 1024 * 1024)
    order = { disk: { file, format: 'raw' }, firmware: 'bios', controller: 'sata', logicalSectorSize: 512 }
  })
  afterAll(() => rmSync(folder, { recursive: true, force: true }))

  it.each(['sata', 'nvme'] as const)(
    'starts a disk at %s, and writes nothing to it',
    { timeout: 90_000 },
    async (controller) => {
      const before = digest()
      const computer = await EmulatedComputer.start(emulator!, { ...order, controller })
      try {
        await vi.waitUntil(async () => (await computer.serial()).includes(WORDS.trim()), {
          timeout: 60_000,
          interval: 100,
        })
        const picture = await computer.screen()
        expect(Buffer.from(picture.subarray(1, 4)).toString()).toBe('PNG')
      } finally {
        await computer.stop()
      }
      expect(digest()).toBe(before)
      await expect(computer.screen()).rejects.toThrow(/ended/)
    },
  )

  it.runIf(canHaveLoops())('starts a drive of this computer only where it is the one that was seen', async () => {
    const loops = new Loops(folder)
    try {
      const file = loops.attach(order.disk.file, '-r')
      const [drive] = (await listDrives({ loops: true })).filter((d) => `/dev/${d.name}` === file)
      const seen = seenDevice(drive)
      const other = { ...seen, sequence: (seen.sequence ?? 0) + 1 }
      const start = (device: SeenDevice) =>
        EmulatedComputer.start(emulator!, { ...order, disk: { file, format: 'raw', seen: device } })
      await expect(start(other)).rejects.toBeInstanceOf(DeviceGone)
      const computer = await start(seen)
      try {
        await vi.waitUntil(async () => (await computer.serial()).includes(WORDS.trim()), {
          timeout: 60_000,
          interval: 100,
        })
      } finally {
        await computer.stop()
      }
    } finally {
      loops.release()
    }
  })

  it.runIf(emulator?.uefi)('comes up by UEFI', { timeout: 90_000 }, async () => {
    const computer = await EmulatedComputer.start(emulator!, { ...order, firmware: 'uefi' })
    try {
      // Its firmware speaks on the serial line before anything else does.
      await vi.waitUntil(async () => (await computer.serial()).length > 0, { timeout: 60_000, interval: 100 })
    } finally {
      await computer.stop()
    }
  })

  it('says why it does not come up', { timeout: 30_000 }, async () => {
    const gone = { ...order, disk: { ...order.disk, file: path.join(folder, 'none.img') } }
    await expect(EmulatedComputer.start(emulator!, gone)).rejects.toThrow(/does not start: .*none\.img/)
  })
})
