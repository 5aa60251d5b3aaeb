import { XMLBuilder, XMLParser, XMLValidator } from 'fast-xml-parser'
import { MIB } from '../bytes/size'
import { CoreError, NotSupported } from '../errors'
import { CONTROLLER_NAMES, type ControllerKind, type VirtualMachine, VirtualMachineSchema } from './types'

// Open Virtualization Format, DMTF DSP0243 version 1.1.1, with resource types of CIM_ResourceAllocationSettingData.

const ENVELOPE = 'http://schemas.dmtf.org/ovf/envelope/1'
const RASD = 'http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData'
const VSSD = 'http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData'
/** Names of our own for what the standard has none for; readers that do not know them pass them over. */
const OWN = 'urn:imbarco:ovf:1'

/** Resource types. */
const TYPE = { processor: 3, memory: 4, ide: 5, network: 10, disk: 17, sata: 20, nvme: 20 } as const
const SUBTYPES: Readonly<Record<ControllerKind, string | undefined>> = { ide: undefined, sata: 'AHCI', nvme: 'NVMe' }
/** What `ovf:format` calls a disk: by the specification that the standard points to, and where that has none by a name of our own. */
export const DISK_FORMATS = {
  'vmdk-stream': 'http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized',
  vmdk: 'http://www.vmware.com/interfaces/specifications/vmdk.html#sparse',
  vhdx: 'urn:imbarco:ovf:1:vhdx',
  vhd: 'urn:imbarco:ovf:1:vhd',
  qcow2: 'urn:imbarco:ovf:1:qcow2',
} as const
export type DiskFormat = keyof typeof DISK_FORMATS

/** A disk of a package, as it lies in it. */
export interface PackedDisk {
  readonly file: string
  readonly fileBytes: number
  readonly format: DiskFormat
  /** Bytes that hold something. */
  readonly populatedBytes: number
}

const builder = new XMLBuilder({
  ignoreAttributes: false,
  attributeNamePrefix: '@',
  format: true,
  suppressEmptyNode: true,
  suppressBooleanAttributes: false,
})

/** The descriptor of a package with one virtual machine. */
export function ovfOf(machine: VirtualMachine, packed: readonly PackedDisk[]): string {
  const controllers = [...new Set(machine.disks.map((disk) => disk.controller))]
  let instance = 0
  const item = (type: number, more: Record<string, unknown>) => ({
    // The schema asks for the elements in the order of their names.
    ...Object.fromEntries(
      Object.entries({ 'rasd:InstanceID': ++instance, 'rasd:ResourceType': type, ...more }).sort(([a], [b]) =>
        a < b ? -1 : 1,
      ),
    ),
  })
  const controllerIds = new Map<ControllerKind, number>()
  const items: Record<string, unknown>[] = [
    item(TYPE.processor, {
      'rasd:AllocationUnits': 'hertz * 10^6',
      'rasd:ElementName': `${machine.processors} virtual processors`,
      'rasd:VirtualQuantity': machine.processors,
    }),
    item(TYPE.memory, {
      'rasd:AllocationUnits': 'byte * 2^20',
      'rasd:ElementName': `${machine.memory.mostBytes / MIB} MiB of memory`,
      'rasd:Reservation': Math.ceil(machine.memory.leastBytes / MIB),
      'rasd:VirtualQuantity': Math.ceil(machine.memory.mostBytes / MIB),
    }),
  ]
  for (const kind of controllers) {
    const more = { 'rasd:Address': 0, 'rasd:ElementName': `${CONTROLLER_NAMES[kind]} controller` }
    const subtype = SUBTYPES[kind] === undefined ? {} : { 'rasd:ResourceSubType': SUBTYPES[kind] }
    const made = item(TYPE[kind], { ...more, ...subtype })
    controllerIds.set(kind, made['rasd:InstanceID'] as number)
    items.push(made)
  }
  machine.disks.forEach((disk, i) =>
    items.push(
      item(TYPE.disk, {
        'rasd:AddressOnParent': disk.place,
        'rasd:ElementName': `Disk ${i + 1}`,
        'rasd:HostResource': `ovf:/disk/disk${i + 1}`,
        'rasd:Parent': controllerIds.get(disk.controller)!,
      }),
    ),
  )
  machine.networkCards.forEach((card) =>
    items.push(
      item(TYPE.network, {
        'rasd:AutomaticAllocation': card.connected,
        'rasd:Connection': 'Network',
        'rasd:ElementName': card.name,
      }),
    ),
  )
  const envelope = {
    '?xml': { '@version': '1.0', '@encoding': 'UTF-8' },
    Envelope: {
      '@xmlns': ENVELOPE,
      '@xmlns:ovf': ENVELOPE,
      '@xmlns:rasd': RASD,
      '@xmlns:vssd': VSSD,
      '@xmlns:imb': OWN,
      References: {
        File: packed.map((disk, i) => ({
          '@ovf:id': `file${i + 1}`,
          '@ovf:href': disk.file,
          '@ovf:size': disk.fileBytes,
        })),
      },
      DiskSection: {
        Info: 'Virtual disks',
        Disk: packed.map((disk, i) => ({
          '@ovf:diskId': `disk${i + 1}`,
          '@ovf:fileRef': `file${i + 1}`,
          '@ovf:capacity': machine.disks[i].sizeBytes,
          '@ovf:capacityAllocationUnits': 'byte',
          '@ovf:format': DISK_FORMATS[disk.format],
          '@ovf:populatedSize': disk.populatedBytes,
        })),
      },
      NetworkSection: {
        Info: 'Networks',
        Network: {
          '@ovf:name': 'Network',
          Description: 'The network that the machine is connected to after its first start',
        },
      },
      VirtualSystem: {
        '@ovf:id': 'machine',
        Info: 'A virtual machine',
        Name: machine.name,
        OperatingSystemSection: { '@ovf:id': 1, Info: 'The system on its disks' },
        VirtualHardwareSection: {
          Info: 'Virtual hardware',
          System: {
            'vssd:ElementName': 'Virtual hardware',
            'vssd:InstanceID': 0,
            'vssd:VirtualSystemIdentifier': machine.name,
            'vssd:VirtualSystemType': 'imbarco-1',
          },
          Item: items,
        },
        'imb:FirmwareSection': {
          '@ovf:required': false,
          '@imb:firmware': machine.firmware,
          '@imb:secureBoot': machine.secureBoot,
          Info: 'How it starts',
          'imb:Card': machine.networkCards.map((card) => ({ '@imb:vlan': card.vlan })),
        },
      },
    },
  }
  return builder.build(envelope) as string
}

/** The manifest of a package: SHA-256 of each file in hexadecimal, as section 5.1 of the standard writes it. */
export function manifestOf(digests: readonly { readonly file: string; readonly sha256: string }[]): string {
  return digests.map(({ file, sha256 }) => `SHA256(${file})= ${sha256}\n`).join('')
}

/** The lines of a manifest. Throws CoreError for one that is none. */
export function readManifest(text: string): { file: string; algorithm: string; digest: string }[] {
  return text
    .split(/\r?\n/)
    .filter((row) => row.trim() !== '')
    .map((row) => {
      const [, algorithm, file, digest] =
        /^(SHA1|SHA256|SHA512)\s*\((.+)\)\s*=\s*([0-9a-f]{40,128})\s*$/i.exec(row) ?? []
      if (!file) throw new CoreError(`The manifest of the package has a line that is none: ${row.slice(0, 80)}`)
      return { file, algorithm: algorithm.toUpperCase(), digest: digest.toLowerCase() }
    })
}

/** What a descriptor tells: the machine, and the file of each of its disks, in order. */
export interface ReadOvf {
  readonly machine: VirtualMachine
  /** What was taken as usual, since the descriptor does not say it. */
  readonly assumed: readonly string[]
}

/** More than any descriptor has. */
const MOST_CHARACTERS = 4 * 1024 * 1024

const parser = new XMLParser({
  ignoreAttributes: false,
  attributeNamePrefix: '@',
  removeNSPrefix: true,
  parseTagValue: false,
  parseAttributeValue: false,
  // Entities that unfold into each other would fill the memory.
  processEntities: false,
})

type Node = Record<string, unknown>

/** Reads a descriptor with one virtual machine. Throws CoreError where it is none or names what it must not. */
export function readOvf(text: string): ReadOvf {
  if (text.length > MOST_CHARACTERS) throw new CoreError('The descriptor of the package is larger than one can be.')
  if (/<!DOCTYPE/i.test(text))
    throw new CoreError('The descriptor of the package declares types of its own, which none has to.')
  const valid = XMLValidator.validate(text)
  if (valid !== true)
    throw new CoreError(`The descriptor of the package is no XML: line ${valid.err.line}, ${valid.err.msg}`)
  const envelope = nodeOf(parsed(text).Envelope)
  if (!envelope) throw new CoreError('The descriptor of the package has no envelope.')
  if (envelope.VirtualSystemCollection)
    throw new NotSupported('This package has several virtual machines; one is read.')
  const system = nodeOf(envelope.VirtualSystem)
  const hardware = nodeOf(listOf(system?.VirtualHardwareSection)[0])
  if (!system || !hardware) throw new CoreError('The descriptor of the package has no virtual machine.')
  const files = new Map(
    listOf(nodeOf(envelope.References)?.File).map((file) => [textOf(file['@id']), textOf(file['@href'])]),
  )
  const disks = new Map(listOf(nodeOf(envelope.DiskSection)?.Disk).map((disk) => [textOf(disk['@diskId']), disk]))
  const items = listOf(hardware.Item)
  const typed = (type: number) => items.filter((one) => Number(textOf(one.ResourceType)) === type)
  const kinds = new Map<string, ControllerKind>()
  for (const one of items) {
    const kind = controllerOf(Number(textOf(one.ResourceType)), textOf(one.ResourceSubType))
    if (kind) kinds.set(textOf(one.InstanceID), kind)
  }
  const assumed: string[] = []
  const own = nodeOf(system.FirmwareSection)
  if (!own) assumed.push('The descriptor does not say how the machine starts; its disk does.')
  const [memory] = typed(TYPE.memory)
  const [processor] = typed(TYPE.processor)
  const mostBytes = memory ? amountOf(textOf(memory.VirtualQuantity), textOf(memory.AllocationUnits)) : 0
  const least =
    memory?.Reservation === undefined ? mostBytes : amountOf(textOf(memory.Reservation), textOf(memory.AllocationUnits))
  const vlans = listOf(own?.Card).map((card) => Number(textOf(card['@vlan'])))
  const machine = {
    name: textOf(system.Name) || textOf(system['@id']) || 'Virtual machine',
    firmware: textOf(own?.['@firmware']) === 'bios' ? 'bios' : 'uefi',
    secureBoot: textOf(own?.['@secureBoot']) === 'true',
    memory: { leastBytes: Math.max(MIB, Math.min(least, mostBytes)), mostBytes },
    processors: Number(textOf(processor?.VirtualQuantity)),
    disks: typed(TYPE.disk).map((one, i) => {
      const id = textOf(one.HostResource).replace(/^ovf:\/*disk\//, '')
      const disk = disks.get(id)
      const file = disk && files.get(textOf(disk['@fileRef']))
      if (!disk || file === undefined)
        throw new CoreError(`The package names a disk that it does not have: ${id || 'one without a name'}.`)
      return {
        file: plainName(file),
        sizeBytes: amountOf(textOf(disk['@capacity']), textOf(disk['@capacityAllocationUnits']) || 'byte'),
        controller: kinds.get(textOf(one.Parent)) ?? 'sata',
        place: Number(textOf(one.AddressOnParent) || i),
      }
    }),
    networkCards: typed(TYPE.network).map((one, i) => ({
      name: textOf(one.ElementName) || `Network ${i + 1}`,
      connected: textOf(one.AutomaticAllocation) === 'true',
      vlan: vlans[i] ?? 0,
    })),
  }
  const result = VirtualMachineSchema.safeParse(machine)
  if (result.success) return { machine: result.data, assumed }
  const { path, message } = result.error.issues[0]
  throw new CoreError(`The virtual machine of the package cannot be taken: ${path.join(' ')}, ${message.toLowerCase()}`)
}

/** A file of a package is one in its folder: a name that leads elsewhere is refused. */
export function plainName(name: string): string {
  if (name === '' || name.startsWith('.') || /[/\\\0-\x1f]|^[a-z]:/i.test(name))
    throw new CoreError(`The package names a file outside of its folder: ${name.slice(0, 80)}. It is not opened.`)
  return name
}

function parsed(text: string): Node {
  try {
    return parser.parse(text) as Node
  } catch (error) {
    throw new CoreError(`The descriptor of the package is no XML: ${error instanceof Error ? error.message : ''}`)
  }
}

function controllerOf(type: number, subtype: string): ControllerKind | undefined {
  if (type === TYPE.ide) return 'ide'
  if (/nvme/i.test(subtype)) return 'nvme'
  // Of SCSI controllers, which are not known here, a disk goes to a SATA one.
  return type === TYPE.sata || type === 6 ? 'sata' : undefined
}

/** A quantity in its units, such as `byte * 2^20`, in bytes. */
function amountOf(quantity: string, units: string): number {
  const power = /byte(?:s)?\s*\*\s*2\^(\d{1,2})/i.exec(units)?.[1]
  const named = { KiloBytes: 10, MegaBytes: 20, GigaBytes: 30 }[units]
  return Number(quantity) * 2 ** Number(power ?? named ?? 0)
}

const nodeOf = (value: unknown): Node | undefined =>
  typeof value === 'object' && value !== null && !Array.isArray(value) ? (value as Node) : undefined
const listOf = (value: unknown): Node[] =>
  (Array.isArray(value) ? (value as unknown[]) : [value]).map(nodeOf).filter((node) => node !== undefined)

/** The text of an element or attribute, the five entities of XML resolved. */
function textOf(value: unknown): string {
  const raw = nodeOf(value)?.['#text'] ?? value
  const text = typeof raw === 'string' || typeof raw === 'number' || typeof raw === 'boolean' ? String(raw) : ''
  return text
    .replace(/&lt;/g, '<')
    .replace(/&gt;/g, '>')
    .replace(/&quot;/g, '"')
    .replace(/&apos;/g, "'")
    .replace(/&amp;/g, '&')
    .trim()
}
