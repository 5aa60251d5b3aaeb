/** What a setup information file of a storage driver says. */
export interface NewInf {
  readonly provider: string
  readonly name: string
  readonly service: string
  readonly hardwareIds: readonly string[]
  /** `03/11/2025`, and the version behind it. */
  readonly date: string
  readonly version: string
}

/** The text of a setup information file, as a maker's storage driver comes with. */
export function makeInf({ provider, name, service, hardwareIds, date, version }: NewInf): string {
  const lines = [
    `; ${name}`,
    '[Version]',
    'Signature   = "$Windows NT$"',
    'Class       = SCSIAdapter',
    'ClassGuid   = {4D36E97B-E325-11CE-BFC1-08002BE10318}',
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
    'StartType      = 0',
    'ErrorControl   = 3',
    `ServiceBinary  = %12%\\${service}.sys`,
    'LoadOrderGroup = SCSI Miniport',
    '',
    '[Strings]',
    `Maker  = "${provider}"`,
    `Device = "${name}"`,
    '',
  ]
  return lines.join('\r\n')
}
