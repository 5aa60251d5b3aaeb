import { formatSize } from '@/core/bytes/size'
import { counted } from '@/core/words'
import { thisComputer } from '@/host/devices/computer'
import { type Io, json } from './commands'

/** Prints what this computer is: board, memory, network, firmware and what that starts. */
export async function computer(options: { readonly json?: boolean }, io: Io): Promise<number> {
  const found = await thisComputer()
  if (options.json) {
    const bootEntries = found.bootEntries.map(({ partition, ...entry }) => ({
      ...entry,
      partition: partition
        ? { ...partition, startLba: String(partition.startLba), sectors: String(partition.sectors) }
        : null,
    }))
    await io.print(json({ ...found, bootEntries }))
    return 0
  }
  const secure = found.secureBoot === null ? '' : `, Secure Boot ${found.secureBoot ? 'on' : 'off'}`
  const cards = found.networkCards.map(
    ({ name, megabits }) => `${name}${megabits === null ? '' : ` at ${megabits} Mb/s`}`,
  )
  const lines = [
    `${[found.maker, found.model].filter(Boolean).join(' ') || 'A computer that does not tell its model'}`,
    `${formatSize(found.memoryBytes)} memory, ${counted(found.cores, 'core')}; network: ${cards.join(', ') || 'none'}`,
    `Starts by ${found.firmware.toUpperCase()}${secure}`,
    ...found.bootEntries.map(({ id, name, isActive, partition, path: file }) => {
      const where = partition ? ` on partition ${partition.guid}` : ''
      const marks = `${id === found.bootCurrent ? ', started by it' : ''}${isActive ? '' : ', off'}`
      return `  ${id}  ${name}${file ? `  ${file}` : ''}${where}${marks}`
    }),
    ...(found.bootOrder.length > 0 ? [`  in the order ${found.bootOrder.join(', ')}`] : []),
    ...(found.unreadable.length > 0 ? [`  not readable: ${found.unreadable.join(', ')}`] : []),
  ]
  await io.print(`${lines.join('\n')}\n`)
  return 0
}
