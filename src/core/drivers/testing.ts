/** A made-up maker's setup information file for its storage controller. */
export const INF = `; Tramonto storage controller
[Version]
Signature   = "$Windows NT$"
Class       = SCSIAdapter
ClassGuid   = {4D36E97B-E325-11CE-BFC1-08002BE10318}
Provider    = %Tramonto%
CatalogFile = trmst9.cat
DriverVer   = 03/11/2025, 2.4.1.0

[Manufacturer]
%Tramonto% = Tramonto, NTamd64

[Tramonto.NTamd64]
%ST9.Name%  = ST9_Install, PCI\\VEN_1F5C&DEV_09A1
%ST9.Name%  = ST9_Install, PCI\\VEN_1F5C&DEV_09A2

[ST9_Install.NTamd64]
CopyFiles = ST9_Files

[ST9_Files]
trmst9.sys

[ST9_Install.NTamd64.Services]
AddService = trmst9, 0x00000002, ST9_Service

[ST9_Service]
ServiceType   = 1
StartType     = 0
ErrorControl  = 3
ServiceBinary = %12%\\trmst9.sys
LoadOrderGroup = SCSI Miniport

[Strings]
Tramonto = "Tramonto"
ST9.Name = "Tramonto ST9 storage controller"
`
