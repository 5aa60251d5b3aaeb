import type { DeviceKind } from './device'

/** What a setup information file of a driver says. */
export interface NewInf {
  readonly kind: DeviceKind
  readonly provider: string
  readonly name: string
  readonly service: string
  readonly hardwareIds: readonly string[]
  /** `03/11/2025`, and the version behind it. */
  readonly date: string
  readonly version: string
}

const SETUP = {
  storage: {
    class: ['SCSIAdapter', '{4D36E97B-E325-11CE-BFC1-08002BE10318}'],
    service: ['StartType      = 0', 'ErrorControl   = 3', 'LoadOrderGroup = SCSI Miniport'],
  },
  network: {
    class: ['Net', '{4D36E972-E325-11CE-BFC1-08002BE10318}'],
    service: ['StartType      = 3', 'ErrorControl   = 1', 'LoadOrderGroup = NDIS'],
  },
} as const

/** The text of a setup information file, as a maker's driver comes with. */
export function makeInf({ kind, provider, name, service, hardwareIds, date, version }: NewInf): string {
  const setup = SETUP[kind]
  const lines = [
    `; ${name}`,
    '[Version]',
    'Signature   = "$Windows NT$"',
    `Class       = ${setup.class[0]}`,
    `ClassGuid   = ${setup.class[1]}`,
    'Provider    = %Maker%',
    `CatalogFile = ${service}.cat`,
    `DriverVer   = ${date}, ${version}`,
    '',
    '[Manufacturer]',
    '%Maker% = Models, NTamd64',
    '',
    '[Models.NTamd64]',
    ...hardwareIds.map((id) => `%Device% = Install, ${id}`),
    '',
    '[Install.NTamd64]',
    'CopyFiles = Files',
    '',
    '[Files]',
    `${service}.sys`,
    '',
    '[Install.NTamd64.Services]',
    `AddService = ${service}, 0x00000002, Service`,
    '',
    '[Service]',
    'ServiceType    = 1',
    ...setup.service,
    `ServiceBinary  = %12%\\${service}.sys`,
    '',
    '[Strings]',
    `Maker  = "${provider}"`,
    `Device = "${name}"`,
    '',
  ]
  return lines.join('\r\n')
}
