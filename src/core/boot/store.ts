import { guidToBytes, guidToString, NIL_GUID } from '../bytes/guid'
import { defineStruct, utf16ToString, viewOf } from '../bytes/struct'
import { HiveEditor } from '../registry/edit'
import type { Hive, HiveKey } from '../registry/hive'
import { makeHive, type NewKey, type NewValue } from '../registry/make'

// The boot settings store: a registry hive of objects with numbered elements, from its long-standing public
// descriptions.

/** Objects that a store knows by name. */
export const STORE_OBJECTS = { manager: '9dea862c-5cdd-4e70-acc1-f32b344d4795' } as const

/** Elements of an object by their numbers. */
export const ELEMENTS = {
  device: 0x11000001,
  path: 0x12000002,
  description: 0x12000004,
  default: 0x23000003,
  displayOrder: 0x24000001,
  systemDevice: 0x21000001,
  systemRoot: 0x22000002,
} as const

/** What the system loader's object is of. */
const MANAGER_TYPE = 0x10100002
const LOADER_TYPE = 0x10200003

/** A device element: which partition of which disk. */
const DEVICE = defineStruct('boot device', 88, {
  options: [0, 'guid'],
  kind: [16, 'u32'],
  flags: [20, 'u32'],
  length: [24, 'u32'],
  partition: [32, ['bytes', 16]],
  bus: [48, 'u32'],
  scheme: [52, 'u32'],
  disk: [56, ['bytes', 16]],
})
const PARTITION_KIND = 6
const SCHEMES = { gpt: 0, mbr: 1 } as const

/** A partition as the store names it. */
export type StoreDevice =
  | { readonly scheme: 'gpt'; readonly diskGuid: string; readonly partitionGuid: string }
  /** Eight hexadecimal digits, and the first byte of the partition. */
  | { readonly scheme: 'mbr'; readonly signature: string; readonly offset: number }

/** An entry that starts a system. */
export interface StoreEntry {
  readonly id: string
  readonly description: string
  /** Path of the system's loader with backslashes. */
  readonly path: string
  readonly systemRoot: string
  /** Undefined where it is missing, or names its device in a way that is not followed here. */
  readonly device: StoreDevice | undefined
  readonly systemDevice: StoreDevice | undefined
}

export interface BootStore {
  /** Both sequence numbers agree. */
  readonly settled: boolean
  readonly entries: readonly StoreEntry[]
  /** The one that starts when nobody chooses; undefined where none is named or it is not there. */
  readonly standard: StoreEntry | undefined
  /** Id of the entry that is named as the standard one. */
  readonly standardId: string | undefined
  /** Where the boot manager itself lies. */
  readonly managerDevice: StoreDevice | undefined
}

/** A store is some tens of kilobytes; a longer file under its name is something else. */
export const MAX_STORE_BYTES = 16 * 1024 * 1024
const MAX_OBJECTS = 512

/** What a store says. Rejects with BadStructure where it contradicts itself. */
export async function readStore(hive: Hive): Promise<BootStore> {
  const objects = await hive.key('Objects')
  const keys = objects ? (await hive.keys(objects)).slice(0, MAX_OBJECTS) : []
  const entries: StoreEntry[] = []
  let standardId: string | undefined
  let managerDevice: StoreDevice | undefined
  for (const object of keys) {
    const id = object.name.replace(/[{}]/g, '').toLowerCase()
    if (id === STORE_OBJECTS.manager) {
      standardId = (await textOf(hive, object, ELEMENTS.default))?.replace(/[{}]/g, '').toLowerCase()
      managerDevice = await deviceOf(hive, object, ELEMENTS.device)
      continue
    }
    const about = await hive.key('Description', object)
    if (!about || (await hive.number(about, 'Type')) !== LOADER_TYPE) continue
    entries.push({
      id,
      description: (await textOf(hive, object, ELEMENTS.description)) ?? '',
      path: (await textOf(hive, object, ELEMENTS.path)) ?? '',
      systemRoot: (await textOf(hive, object, ELEMENTS.systemRoot)) ?? '',
      device: await deviceOf(hive, object, ELEMENTS.device),
      systemDevice: await deviceOf(hive, object, ELEMENTS.systemDevice),
    })
  }
  const settled = hive.settled
  return { settled, entries, standard: entries.find((e) => e.id === standardId), standardId, managerDevice }
}

/** Path in the hive of an element of an object. */
export function elementPath(objectId: string, element: number): string {
  return `Objects\\{${objectId}}\\Elements\\${element.toString(16).padStart(8, '0')}`
}

/** The bytes of a device element, of the whole value `Element`. */
export function deviceBytes(device: StoreDevice): Uint8Array {
  const bytes = new Uint8Array(DEVICE.size)
  const partition = new Uint8Array(16)
  const disk = new Uint8Array(16)
  if (device.scheme === 'gpt') {
    partition.set(guidToBytes(device.partitionGuid))
    disk.set(guidToBytes(device.diskGuid))
  } else {
    viewOf(partition).setBigUint64(0, BigInt(device.offset), true)
    viewOf(disk).setUint32(0, parseInt(device.signature, 16), true)
  }
  DEVICE.write(bytes, {
    options: NIL_GUID,
    kind: PARTITION_KIND,
    length: DEVICE.size - 16,
    partition,
    scheme: SCHEMES[device.scheme],
    disk,
  })
  return bytes
}

async function deviceOf(hive: Hive, object: HiveKey, element: number): Promise<StoreDevice | undefined> {
  const data = await elementOf(hive, object, element)
  return data && data.length >= DEVICE.size ? deviceIn(data) : undefined
}

function deviceIn(data: Uint8Array): StoreDevice | undefined {
  const { kind, partition, scheme, disk } = DEVICE.read(data)
  if (kind !== PARTITION_KIND) return undefined
  if (scheme === SCHEMES.gpt)
    return { scheme: 'gpt', partitionGuid: guidToString(partition), diskGuid: guidToString(disk) }
  if (scheme !== SCHEMES.mbr) return undefined
  const offset = viewOf(partition).getBigUint64(0, true)
  if (offset > BigInt(Number.MAX_SAFE_INTEGER)) return undefined
  return {
    scheme: 'mbr',
    offset: Number(offset),
    signature: viewOf(disk).getUint32(0, true).toString(16).padStart(8, '0'),
  }
}

async function textOf(hive: Hive, object: HiveKey, element: number): Promise<string | undefined> {
  const data = await elementOf(hive, object, element)
  return data && utf16ToString(data, 0, Math.floor(data.length / 2), true)
}

async function elementOf(hive: Hive, object: HiveKey, element: number): Promise<Uint8Array | undefined> {
  const key = await hive.key(`Elements\\${element.toString(16).padStart(8, '0')}`, object)
  return key && (await hive.find(key, 'Element'))?.data
}

/** An entry that is made. */
export interface NewEntry {
  readonly id: string
  readonly description: string
  /** Path of the system's loader with backslashes. */
  readonly path: string
  readonly device: StoreDevice
}

/** What a new store starts. */
export interface NewStore {
  /** Where the boot manager lies. */
  readonly managerDevice: StoreDevice
  readonly entries: readonly NewEntry[]
  /** The first where nothing is said. */
  readonly standardId?: string
}

/** The bytes of a new store. */
export function makeStore(store: NewStore, modified: bigint): Uint8Array {
  const object = (type: number, elements: Record<number, NewValue>): NewKey => ({
    keys: {
      Description: { values: { Type: type } },
      Elements: {
        keys: Object.fromEntries(
          Object.entries(elements).map(([element, value]) => [
            Number(element).toString(16).padStart(8, '0'),
            { values: { Element: value } },
          ]),
        ),
      },
    },
  })
  const manager = object(MANAGER_TYPE, {
    [ELEMENTS.device]: deviceBytes(store.managerDevice),
    [ELEMENTS.description]: 'Boot Manager',
    [ELEMENTS.default]: `{${store.standardId ?? store.entries[0]?.id ?? NIL_GUID}}`,
    [ELEMENTS.displayOrder]: store.entries.map((e) => `{${e.id}}`),
  })
  const loaders = store.entries.map((e): [string, NewKey] => [`{${e.id}}`, object(LOADER_TYPE, loaderElements(e))])
  const objects = { [`{${STORE_OBJECTS.manager}}`]: manager, ...Object.fromEntries(loaders) }
  return makeHive(
    'BCD',
    { keys: { Description: { values: { KeyName: 'BCD00000000' } }, Objects: { keys: objects } } },
    modified,
  )
}

function loaderElements({ device, path, description }: NewEntry): Record<number, NewValue> {
  return {
    [ELEMENTS.device]: deviceBytes(device),
    [ELEMENTS.path]: path,
    [ELEMENTS.description]: description,
    [ELEMENTS.systemDevice]: deviceBytes(device),
    [ELEMENTS.systemRoot]: '\\Windows',
  }
}

/** More than the keys and values of one entry take. */
const ENTRY_BYTES = 3072

/** The bytes of a store with further entries, offered behind those that it has. Rejects with CoreError where it is damaged. */
export async function withEntries(
  bytes: Uint8Array,
  entries: readonly NewEntry[],
  modified: bigint,
): Promise<Uint8Array> {
  const editor = await HiveEditor.open(bytes, { spareBytes: entries.length * ENTRY_BYTES })
  for (const entry of entries) {
    const about = await editor.make(`Objects\\{${entry.id}}\\Description`, modified)
    await editor.set(about, 'Type', LOADER_TYPE)
    for (const [element, value] of Object.entries(loaderElements(entry)))
      await editor.set(await editor.make(elementPath(entry.id, Number(element)), modified), 'Element', value)
  }
  const order = await editor.make(elementPath(STORE_OBJECTS.manager, ELEMENTS.displayOrder), modified)
  const offered = (await editor.value(order, 'Element')) ?? new Uint8Array()
  const ids = utf16ToString(offered, 0, Math.floor(offered.length / 2))
    .split('\0')
    .filter(Boolean)
  await editor.set(order, 'Element', [...ids, ...entries.map(({ id }) => `{${id}}`)])
  return editor.done(modified)
}

/** The name under which a system keeps which volume is C. */
export const LETTER_C = '\\DosDevices\\C:'

/** The value that says which volume has a drive letter: of a GPT by its GUID, of an MBR by signature and first byte. */
export function letterBytes(device: StoreDevice): Uint8Array {
  if (device.scheme === 'gpt') {
    const bytes = new Uint8Array(24)
    bytes.set([...'DMIO:ID:'].map((c) => c.charCodeAt(0)))
    bytes.set(guidToBytes(device.partitionGuid), 8)
    return bytes
  }
  const bytes = new Uint8Array(12)
  viewOf(bytes).setUint32(0, parseInt(device.signature, 16), true)
  viewOf(bytes).setBigUint64(4, BigInt(device.offset), true)
  return bytes
}

/** The partition that a drive letter's value names; undefined for anything else, such as an optical drive. */
export function letterDevice(bytes: Uint8Array, diskOf: (partitionGuid: string) => string): StoreDevice | undefined {
  const view = viewOf(bytes)
  if (bytes.length === 24 && String.fromCharCode(...bytes.subarray(0, 8)) === 'DMIO:ID:') {
    const partitionGuid = guidToString(bytes.subarray(8))
    return { scheme: 'gpt', partitionGuid, diskGuid: diskOf(partitionGuid) }
  }
  if (bytes.length !== 12) return undefined
  const offset = view.getBigUint64(4, true)
  if (offset > BigInt(Number.MAX_SAFE_INTEGER)) return undefined
  return { scheme: 'mbr', signature: view.getUint32(0, true).toString(16).padStart(8, '0'), offset: Number(offset) }
}

/** A partition that an element of the store names, wherever in its value it stands. */
export interface NamedDevice {
  /** Path of the element's key. */
  readonly key: string
  /** The whole value. */
  readonly data: Uint8Array
  /** Byte of the value at which the description of the partition begins. */
  readonly at: number
  readonly device: StoreDevice
}

const LENGTH_OF_PARTITION = DEVICE.size - 16

/**
 * Every partition that any element of a store names, those of files on a partition too, as the entry that starts the
 * recovery environment has it: there the description of the partition stands inside that of the file.
 */
export async function namedDevices(hive: Hive): Promise<NamedDevice[]> {
  const objects = await hive.key('Objects')
  const found: NamedDevice[] = []
  for (const object of objects ? (await hive.keys(objects)).slice(0, MAX_OBJECTS) : []) {
    const elements = await hive.key('Elements', object)
    for (const element of elements ? await hive.keys(elements) : []) {
      const data = (await hive.find(element, 'Element'))?.data
      if (!data || data.length < DEVICE.size || data.length > 4096) continue
      const view = viewOf(data)
      for (let at = 0; at + DEVICE.size <= data.length; at += 4) {
        if (view.getUint32(at + 16, true) !== PARTITION_KIND) continue
        if (view.getUint32(at + 24, true) !== LENGTH_OF_PARTITION) continue
        const device = deviceIn(data.subarray(at))
        if (device) found.push({ key: `Objects\\${object.name}\\Elements\\${element.name}`, data, at, device })
      }
    }
  }
  return found
}

/** The value with another partition named in it, all else as it is. */
export function withNamedDevice({ data, at }: NamedDevice, device: StoreDevice): Uint8Array {
  const changed = data.slice()
  const { partition, scheme, disk } = DEVICE.read(deviceBytes(device))
  DEVICE.write(changed, { partition, scheme, disk }, at)
  return changed
}

/** What a system's own settings hold for a start. */
export interface NewSystemHive {
  /** The volume with the letter C. */
  readonly system: StoreDevice
  /** Drivers with when they start: 0 is early, with the loader; 3 is when something asks. */
  readonly drivers: Readonly<Record<string, number>>
  /** Devices of the computer's own bus, by their ids. */
  readonly devices?: readonly NewDevice[]
  /** Fixed addresses of network cards, by the id of the card's settings. */
  readonly addresses?: Readonly<Record<string, string>>
}

/** A device that a system has met. */
export interface NewDevice {
  readonly id: string
  readonly name: string
  readonly service: string
}

/** The bytes of a SYSTEM hive with drive letters and drivers. Free room is left, as years of use leave it. */
export function makeSystemHive(wanted: NewSystemHive, modified: bigint): Uint8Array {
  const { system, drivers, devices = [], addresses = {} } = wanted
  const services = Object.fromEntries(
    Object.entries(drivers).map(([name, start]): [string, NewKey] => [
      name,
      { values: { Type: 1, Start: start, ErrorControl: 3, ImagePath: `system32\\drivers\\${name}.sys` } },
    ]),
  )
  return makeHive(
    'SYSTEM',
    {
      keys: {
        ControlSet001: {
          keys: {
            ...(devices.length > 0 ? { Enum: { keys: { PCI: { keys: deviceKeys(devices) } } } } : {}),
            Services: { keys: { ...services, ...(Object.keys(addresses).length > 0 ? tcpip(addresses) : {}) } },
          },
        },
        MountedDevices: { values: { [LETTER_C]: letterBytes(system) } },
        Select: { values: { Current: 1, Default: 1, Failed: 0, LastKnownGood: 1 } },
      },
    },
    modified,
  )
}

function deviceKeys(devices: readonly NewDevice[]): Record<string, NewKey> {
  return Object.fromEntries(
    devices.map(({ id, name, service }, i): [string, NewKey] => {
      const values = { DeviceDesc: `@machine.inf,%${service}%;${name}`, HardwareID: [`PCI\\${id}`], Service: service }
      return [id, { keys: { [`3&11583659&0&${i.toString(16).toUpperCase()}`]: { values } } }]
    }),
  )
}

function tcpip(addresses: Readonly<Record<string, string>>): Record<string, NewKey> {
  const cards = Object.entries(addresses).map(([id, address]): [string, NewKey] => [
    id,
    { values: { EnableDHCP: 0, IPAddress: [address], SubnetMask: ['255.255.255.0'] } },
  ])
  return { Tcpip: { keys: { Parameters: { keys: { Interfaces: { keys: Object.fromEntries(cards) } } } } } }
}
