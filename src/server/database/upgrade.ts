import { notesOf, type StationNotes } from './notes'

/** JSON of a row of the first version: its fields are looked at one by one. */
type Old = Record<string, unknown>

const BODIES: Record<string, { body: Old; protocol: string }> = {
  '2.5-inch SATA': { body: { form: '2.5-inch' }, protocol: 'SATA' },
  '3.5-inch SATA': { body: { form: '3.5-inch' }, protocol: 'SATA' },
  'M.2 2280 M-key NVMe': { body: { form: 'M.2', size: '2280', key: 'M' }, protocol: 'PCIe' },
  'proprietary blade': { body: { form: 'blade', family: 'Brezza Studio' }, protocol: 'PCIe' },
}

const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']

/** The description of a computer, an accessory or a drive of the first version, as it is written now. */
export function upgradeThing(table: 'computers' | 'accessories' | 'drives', old: Old): Old {
  if (table === 'drives') return drive(old)
  return table === 'computers' ? computer(old) : accessory(old)
}

function drive({ interfaceName, ...rest }: Old): Old {
  const { body, protocol } = BODIES[String(interfaceName)] ?? BODIES['2.5-inch SATA']
  return { ...rest, body, protocol }
}

function slot({ id, interfaceName, link }: Old): Old {
  const { body, protocol } = BODIES[String(interfaceName)] ?? BODIES['2.5-inch SATA']
  const takes = body.form === 'M.2' ? { form: 'M.2', sizes: [body.size], key: body.key } : body
  return { id, takes: [takes], speaks: [{ protocol, link }] }
}

function computer({ slots, ...rest }: Old): Old {
  const sockets = [
    { plug: 'A', link: 'usb-5', count: 4 },
    { plug: 'C', link: 'usb-10', count: 1 },
  ]
  return { ...rest, sockets, slots: (slots as Old[]).map(slot) }
}

function accessory({ bays, ...rest }: Old): Old {
  switch (rest.kind) {
    case 'stick':
      return { ...rest, plug: 'A', signed: true }
    case 'network':
      return { ...rest, link: 'ethernet-1' }
    case 'host':
      return {
        ...rest,
        sockets: [{ plug: 'A', link: 'usb-5', count: 2 }],
        network: 'ethernet-1',
        freeBytes: 2 ** 41,
        diskBytesPerSecond: 480e6,
        memoryBytes: 2 ** 36,
        cores: 16,
      }
    default:
      return { ...rest, plugs: ['A', 'C'], bays: (bays as Old[]).map(slot) }
  }
}

/** A brief of the first version: one target, and days in words of the year 2026. */
export function upgradeBrief({ sourceDriveIds, targetDriveId, backup, promised, ...rest }: Old): Old {
  const pairs = (sourceDriveIds as string[]).map((sourceId, i) => ({
    sourceId,
    targetId: i === 0 ? (targetDriveId as string | null) : null,
  }))
  const told = backup as { where: string; date: string } | null
  const [day, time] = String(promised).split(', ')
  return {
    ...rest,
    pairs,
    backup: told && { where: told.where, date: isoDay(told.date) ?? '2026-05-04' },
    promised: time && isoDay(day) ? `${isoDay(day)}T${time}` : '',
  }
}

function isoDay(words: string): string | undefined {
  const [day, month] = words.split(' ')
  const index = MONTHS.indexOf((month ?? '').slice(0, 3))
  return index < 0 ? undefined : `2026-${String(index + 1).padStart(2, '0')}-${day.padStart(2, '0')}`
}

/** Locked fits of a version that only knew GPT, one sector size and sizes that stay or grow. */
export function upgradeFit({ pairs }: Old): Old {
  return {
    pairs: (pairs as (Old | null)[]).map((locked) => locked && { ...locked, layout: layout(locked.layout as Old) }),
  }
}

/** Choices of a copy, alone or within what keeps them, in which leaving out page files had another name. */
export function upgradeChoices({ leaveIdle, choices, ...rest }: Old): Old {
  return {
    ...rest,
    ...(leaveIdle === undefined ? {} : { skipPageFiles: leaveIdle }),
    ...(choices ? { choices: upgradeChoices(choices as Old) } : {}),
  }
}

/** What the rail says of a move, from what its stations left; nothing of one whose results do not have their form. */
export function upgradeNotes(texts: Record<'survey' | 'fit' | 'proof', string | null>): Required<StationNotes> {
  const none = { surveyNote: null, fitNote: null, proofNote: null }
  try {
    const value = (text: string | null) => (text === null ? null : (JSON.parse(text) as never))
    return { ...none, ...notesOf({ survey: value(texts.survey), fit: value(texts.fit), proof: value(texts.proof) }) }
  } catch {
    return none
  }
}

/** What was settled by a person, under the name that it has now. */
export function upgradeReady({ told, ...rest }: Old): Old {
  return told === undefined ? rest : { ...rest, acknowledged: told }
}

/** A route whose transfers had another name for what tells links apart. */
export function upgradeRoute({ plan, ...rest }: Old): Old {
  const { actions, ...others } = plan as Old & { actions: Old[] }
  const renamed = ({ way, ...action }: Old): Old => (way === undefined ? action : { ...action, linkKey: way })
  return { ...rest, plan: { ...others, actions: actions.map(renamed) } }
}

function layout({ partitions, ...rest }: Old): Old {
  return {
    ...rest,
    scheme: 'gpt',
    diskSignature: '',
    sourceSectorSize: rest.sectorSize,
    partitions: (partitions as Old[]).map(({ smallestBytes, ...p }) => ({
      ...p,
      sourceNumber: p.number,
      leastBytes: smallestBytes,
      resizes: Number(p.lastLba) - Number(p.firstLba) > Number(p.sourceLastLba) - Number(p.sourceFirstLba),
    })),
    extended: null,
    hybrid: [],
    startArea: { bootCode: false, lastLba: 0 },
    changes: [],
  }
}
