import { readdir, readFile } from 'node:fs/promises'
import { cpus, totalmem } from 'node:os'
import path from 'node:path'
import { type LoadOption, readBootOrder, readLoadOption } from '@/core/boot/load-option'
import { BadStructure } from '@/core/errors'

// What this computer is, as its kernel and its firmware tell.

/** The variables that the UEFI specification itself defines. */
export const GLOBAL = '8be4df61-93ca-11d2-aa0d-00e098032b8c'
/** In front of each variable's bytes stand its attributes. */
export const ATTRIBUTES = 4

export interface Places {
  readonly sys: string
  readonly efi: string
}

export const HERE: Places = { sys: '/sys', efi: '/sys/firmware/efi/efivars' }

export interface FirmwareEntry extends LoadOption {
  readonly id: string
}

export interface ThisComputer {
  readonly maker: string | null
  readonly model: string | null
  readonly memoryBytes: number
  readonly cores: number
  readonly networkCards: readonly {
    readonly name: string
    readonly megabits: number | null
    /** It hangs at a network that answers. */
    readonly isUp: boolean
  }[]
  readonly firmware: 'uefi' | 'bios'
  /** Null where it does not tell. */
  readonly secureBoot: boolean | null
  readonly bootEntries: readonly FirmwareEntry[]
  readonly bootOrder: readonly string[]
  /** What it was started by. */
  readonly bootCurrent: string | null
  /** Entries that could not be read, by their names. */
  readonly unreadable: readonly string[]
}

const text = (file: string): Promise<string | null> =>
  readFile(file, 'utf8').then(
    (found) => found.trim() || null,
    () => null,
  )

/** Reads what this computer tells of itself; nothing is written. */
export async function thisComputer(places = HERE): Promise<ThisComputer> {
  const board = path.join(places.sys, 'class', 'dmi', 'id')
  const names = await readdir(/* turbopackIgnore: true */ places.efi).catch(() => undefined)
  const variable = async (name: string) => {
    const bytes = await readFile(path.join(places.efi, `${name}-${GLOBAL}`)).catch(() => undefined)
    return bytes === undefined || bytes.length < ATTRIBUTES ? undefined : bytes.subarray(ATTRIBUTES)
  }
  const bootEntries: FirmwareEntry[] = []
  const unreadable: string[] = []
  for (const name of (names ?? []).sort()) {
    const id = new RegExp(`^Boot([0-9A-F]{4})-${GLOBAL}$`).exec(name)?.[1]
    if (id === undefined) continue
    try {
      bootEntries.push({ id, ...readLoadOption((await variable(`Boot${id}`)) ?? new Uint8Array(0)) })
    } catch (error) {
      if (!(error instanceof BadStructure)) throw error
      unreadable.push(`Boot${id}`)
    }
  }
  const secure = await variable('SecureBoot')
  const current = await variable('BootCurrent')
  return {
    maker: await text(path.join(board, 'sys_vendor')),
    model: await text(path.join(board, 'product_name')),
    memoryBytes: totalmem(),
    cores: cpus().length,
    networkCards: await cardsOf(places),
    firmware: names === undefined ? 'bios' : 'uefi',
    secureBoot: secure === undefined ? null : secure[0] === 1,
    bootEntries,
    bootOrder: readBootOrder((await variable('BootOrder')) ?? new Uint8Array(0)),
    bootCurrent: current === undefined ? null : (readBootOrder(current)[0] ?? null),
    unreadable,
  }
}

/** Network cards that hang at a bus, and not what the kernel makes up. */
async function cardsOf({ sys }: Places): Promise<ThisComputer['networkCards'][number][]> {
  const folder = path.join(sys, 'class', 'net')
  const found: ThisComputer['networkCards'][number][] = []
  for (const name of (await readdir(folder).catch(() => [])).sort()) {
    const hangs = await readdir(path.join(folder, name, 'device')).catch(() => undefined)
    if (hangs === undefined) continue
    const megabits = Number(await text(path.join(folder, name, 'speed')))
    const isUp = (await text(path.join(folder, name, 'carrier'))) === '1'
    found.push({ name, megabits: megabits > 0 ? megabits : null, isUp })
  }
  return found
}
