import { listed } from '@/core/words'
import { type BenchState, driveIn } from '@/core/things/bench'
import { slotWords } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { driveName } from '@/core/things/drive'
import { LINKS, socketWords } from '@/core/things/links'
import { dayWords, promiseWords } from '../../ground/words'
import type { MovePage } from '../../moves/page'
import { knownOf } from '../../world/known'
import { RUNNING } from '../../world/computers/words'

export async function intakeView({ move, plates, lines }: MovePage) {
  const { brief, row, bench, computer, goal } = move
  return {
    confirmed: row.intake !== null,
    brief,
    promised: promiseWords(brief.promised),
    backup: brief.backup && { where: brief.backup.where, date: dayWords(brief.backup.date) },
    computer: computerView(computer, bench),
    goal: goal && goal.id !== computer.id ? computerView(goal, bench) : undefined,
    plates: plates.map((p, i) => ({
      ...p,
      speed: row.intake?.speeds[move.pairs[i].source.id],
    })),
    lines,
    ...(await volumeOf(move)),
  }
}

/** The one partition that moves, by what its drive tells. */
async function volumeOf({ pairs: [{ source, volume }] }: MovePage['move']) {
  if (volume === undefined) return {}
  const system = (await knownOf(source)).systems.find((s) => s.partition === volume)
  return { volume: system ? { title: system.title, name: system.name } : { title: `Partition ${volume}` } }
}

/** The facts of a computer, in words. */
function computerView(computer: Computer, bench: BenchState) {
  const { firmware, processors, networkCards, sockets, batteryPercent } = computer
  const can = ['SATA', ...(firmware.startsFromNvme ? ['NVMe'] : []), ...(firmware.startsFromUsb ? ['USB'] : [])]
  const cannot = [...(firmware.startsFromNvme ? [] : ['NVMe']), ...(firmware.startsFromUsb ? [] : ['USB'])]
  const small = firmware.mode === 'bios' && !firmware.startsBeyond2Tib
  return {
    id: computer.id,
    name: computer.name,
    model: computer.model,
    firmware: `${firmware.mode.toUpperCase()}, Secure Boot ${firmware.secureBoot ? 'on' : 'off'}`,
    starts: `from ${listed(can)}${cannot.length > 0 ? `, not from ${listed(cannot)}` : ''}${small ? '; only drives of up to 2 TiB' : ''}`,
    memoryBytes: computer.memoryBytes,
    processors: `${processors.count} × ${processors.cores} cores`,
    network:
      networkCards.map((c) => `${LINKS[c.link].name}${c.address ? `, ${c.address}` : ''}`).join('; ') ||
      'no network card',
    sockets: socketWords(sockets) || 'none',
    battery: batteryPercent === null ? null : `${batteryPercent} %`,
    chassis: `${computer.chassis.kind}, ${computer.chassis.cover.name} with ${computer.chassis.cover.screws} screws`,
    bootMenuKey: firmware.bootMenuKey,
    running: RUNNING[computer.running],
    bootEntries: firmware.bootEntries.map((e) => ({ id: e.id, name: e.name, path: e.path })),
    slots: computer.slots.map((slot) => {
      const drive = driveIn(bench, { kind: 'slot', computerId: computer.id, slot: slot.id })
      return { id: slot.id, takes: slotWords(slot), holds: drive ? driveName(drive) : null }
    }),
  }
}
