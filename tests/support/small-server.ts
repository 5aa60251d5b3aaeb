import { mkdirSync } from 'node:fs'
import path from 'node:path'
import { COMPUTER_MODELS } from '@/bench/catalogue'
import { readBytes } from '@/core/block/device'
import { MemoryDevice } from '@/core/block/memory'
import { SliceDevice } from '@/core/block/slice'
import { MIB } from '@/core/bytes/size'
import { formatNtfs } from '@/core/filesystem/ntfs/format'
import { usableRange, writeGpt } from '@/core/scheme/gpt'
import { TYPE_GUIDS } from '@/core/scheme/types'
import { makeSystemDisk } from '@/core/testing-disk'
import { ComputerSchema } from '@/core/things/computer'
import type { Drive } from '@/core/things/drive'
import { ComputerRow, DriveRow } from '@/server/database/models'
import { imagesFolder } from '@/server/ground/paths'
import { newMove } from '@/server/moves/change'
import { activeBench } from '@/server/world'
import { driveOfModel } from '@/server/world/image-drives'
import { sparseFile } from './image-files'

/** The fixed address that the system on the first drive has. */
export const SERVER_ADDRESS = '192.168.7.44'

/** A server on the bench with two small drives, a system's and one of data; gives its id and the drives'. */
export async function smallServer(id: string): Promise<{ computerId: string; drives: [string, string] }> {
  const benchId = (await activeBench()).id
  const computer = ComputerSchema.parse({ id, name: id.replaceAll('-', ' '), ...COMPUTER_MODELS['tramonto-r1'] })
  await ComputerRow.create({ id, benchId, data: { ...computer, running: 'system', mains: true } })
  mkdirSync(imagesFolder(), { recursive: true })
  const system = await makeSystemDisk({
    met: {
      devices: [
        { id: 'VEN_1D3F&DEV_0906', name: 'Tramonto storage controller', service: 'storahci' },
        { id: 'VEN_1D3F&DEV_1533', name: 'Tramonto network card', service: 'trmnet' },
      ],
      addresses: { '{9d2e7a40-3b6f-4c15-8a91-f05c7be4d382}': SERVER_ADDRESS },
    },
  })
  const drives: [string, string] = [`${id}-1`, `${id}-2`]
  for (const [i, device] of [system, await dataDisk()].entries()) {
    const image = `${id} ${i + 1}.img`
    await writeSparse(path.join(imagesFolder(), image), device)
    const data: Drive = {
      id: drives[i],
      model: `Small ${id}`,
      serial: `SML${i + 1}-${id.toUpperCase().slice(0, 20)}-0001`,
      ...driveOfModel('disk-35'),
      sizeBytes: device.size,
      logicalSectorSize: 512,
      physicalSectorSize: 4096,
      encrypted: false,
      purpose: 'customer',
      unreadable: [],
      misstores: [],
      file: null,
      image,
      place: { kind: 'slot', computerId: id, slot: `SATA ${i}` },
    }
    await DriveRow.create({ id: data.id, benchId, data })
  }
  return { computerId: id, drives }
}

/** Opens a move of such a server into a virtual machine. */
export async function serverMove(name: string): Promise<string> {
  const { computerId, drives } = await smallServer(name)
  return newMove({
    name,
    customer: 'Pilot office',
    reason: 'virtual machine',
    computerId,
    pairs: drives.map((sourceId) => ({ sourceId, targetId: null })),
    toVirtualMachine: true,
    targetComputerId: null,
    images: [],
    backup: null,
    promised: '',
  })
}

async function dataDisk(): Promise<MemoryDevice> {
  const device = new MemoryDevice(200 * MIB)
  const { lastLba } = usableRange(device.size, 512)
  await writeGpt(device, {
    diskGuid: '2c7d41f8-95b3-4e06-a1d7-c80f3b62e94a',
    entryCount: 128,
    entrySize: 128,
    partitions: [
      {
        number: 1,
        typeGuid: TYPE_GUIDS.basicData,
        guid: 'a94f0c3e-7d12-4b85-9e60-31d5c8a27fb6',
        name: '',
        attributes: '0'.repeat(16),
        firstLba: 2048,
        lastLba,
      },
    ],
  })
  await formatNtfs(new SliceDevice(device, MIB, (lastLba - 2047) * 512), {
    label: 'Archive',
    serial: 41n,
    startSector: 2048,
    time: 1n,
    files: [1998, 2006, 2014].map((year) => ({ path: `/${year}/log.dat`, unwrittenBytes: 12 * MIB })),
  })
  return device
}

async function writeSparse(file: string, device: MemoryDevice): Promise<void> {
  const parts: [number, Uint8Array][] = []
  for (const { offset, length } of await device.mapped(0, device.size))
    parts.push([offset, await readBytes(device, offset, length)])
  sparseFile(file, device.size, parts)
}
