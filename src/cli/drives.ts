import { formatCapacity } from '@/core/bytes/size'
import { type KernelDrive, listDrives, plateText, usesOf } from '@/host/devices/describe'
import { KernelDevice } from '@/host/devices/device-file'
import { type Io, json } from './commands'

export interface DrivesOptions {
  readonly loops?: boolean
  readonly json?: boolean
}

/** Prints the drives of this computer. */
export async function drives({ loops, json: forPrograms }: DrivesOptions, io: Io): Promise<number> {
  const found = await Promise.all((await listDrives({ loops })).map(reportOf))
  await io.print(forPrograms ? json({ drives: found }) : textOf(found))
  return 0
}

async function reportOf(drive: KernelDrive) {
  const file = `/dev/${drive.name}`
  // Of one that may not be opened the kernel's own files still tell what it is.
  const opened = await KernelDevice.open(file).catch((error: Error) => error)
  const isOpen = opened instanceof KernelDevice
  const sectorSize = isOpen ? opened.logicalSectorSize : 512
  if (isOpen) await opened.close()
  return {
    ...{ file, ...drive, plate: plateText(drive, sectorSize) },
    ...{ logicalSectorSize: isOpen ? opened.logicalSectorSize : null, uses: await usesOf(drive) },
    problem: isOpen ? null : opened.message,
  }
}

type Report = Awaited<ReturnType<typeof reportOf>>

function textOf(drives: readonly Report[]): string {
  if (drives.length === 0) return 'There are no drives in this computer that it can see.\n'
  return drives
    .map((drive) => {
      const { file, model, sizeBytes, transport, serial, ofBridge, plate, uses, problem, usbMegabits } = drive
      const rate = usbMegabits === null ? '' : ` at ${usbMegabits} Mb/s`
      const named = serial === null ? 'no serial' : `serial ${serial}${ofBridge ? ', which is its bridge’s' : ''}`
      const state = problem ?? (uses.length > 0 ? `In use: ${uses.join(', ')}.` : 'Nothing uses it.')
      return `${file}  ${model} ${formatCapacity(sizeBytes)}, ${transport}${rate}; ${named}; plate ${plate}\n  ${state}\n`
    })
    .join('')
}
