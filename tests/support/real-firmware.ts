// Run in a mount namespace whose `/sys/firmware` is its own: has an entry written for the first argument's disk, says what the
// firmware has then, and takes it back.
import { readdirSync, readFileSync } from 'node:fs'
import path from 'node:path'
import { readScheme } from '@/core/scheme'
import { thisComputer } from '@/host/devices/computer'
import { thingsOf } from '@/host/devices/things'
import { RawFile } from '@/host/raw-file'
import { planRepair } from '@/core/repair'
import { takeFirmwareBack, writeRealFirmware } from '@/server/stations/proof/real-firmware'

const [disk, kept] = process.argv.slice(2)
const VARIABLES = '/sys/firmware/efi/efivars'
const all = () => readdirSync(VARIABLES).map((name) => [name, readFileSync(path.join(VARIABLES, name), 'hex')])
const device = await RawFile.open(disk, 512)
const before = all()
const computer = await thisComputer()
const { firmware } = thingsOf(computer, []).computer
const question = { device, mode: 'uefi' as const, firmware, drivers: [], time: 0n, chance: new Uint8Array(16) }
const plan = await planRepair('boot-entry', question)
await writeRealFirmware(device, plan.firmware!, kept)
const after = await thisComputer()
const entry = after.bootEntries.find((e) => e.id === after.bootOrder[0])
const partition = (await readScheme(device))?.partitions.find((p) => p.guid === entry?.partition?.guid)
await takeFirmwareBack(kept)
console.log(
  JSON.stringify({
    order: [computer.bootOrder, after.bootOrder],
    entry: entry && { name: entry.name, path: entry.path, isActive: entry.isActive },
    isOfTheDisk: partition !== undefined && entry?.partition?.startLba === BigInt(partition.firstLba),
    isBack: JSON.stringify(all()) === JSON.stringify(before),
  }),
)
await device.close()
