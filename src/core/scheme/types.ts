/** Partition type GUIDs this program knows by name (UEFI 2.10 table 5.7 and the systems' own publications). */
export const TYPE_GUIDS = {
  efiSystem: 'c12a7328-f81f-11d2-ba4b-00a0c93ec93b',
  reserved: 'e3c9e316-0b5c-4db8-817d-f92df00215ae',
  basicData: 'ebd0a0a2-b9e5-4433-87c0-68b6b72699c7',
  recovery: 'de94bba4-06d1-4d40-a16a-bfd50179d6ac',
  linuxData: '0fc63daf-8483-4772-8e79-3d69d8477de4',
  linuxRoot: '4f68bce3-e8cd-4db1-96e7-fbcaf984b709',
  linuxHome: '933ac7e1-2eb4-4f13-b844-0e14e2aef915',
  linuxBoot: 'bc13c2ff-59e6-4262-a352-b275fd6f7172',
  linuxSwap: '0657fd6d-a4ab-43c4-84e5-0933c84b4f4f',
  linuxLvm: 'e6d6d379-f507-44c2-a23c-238f2a3df928',
  linuxLuks: 'ca7d7ccb-63ed-4c53-861c-1742536059cc',
  biosBoot: '21686148-6449-6e6f-744e-656564454649',
  appleHfs: '48465300-0000-11aa-aa11-00306543ecac',
  appleApfs: '7c3457ef-0000-11aa-aa11-00306543ecac',
  appleBoot: '426f6f74-0000-11aa-aa11-00306543ecac',
} as const

/** GPT attribute bits: UEFI 2.10 table 5.8, and those of basic data partitions. */
export const ATTRIBUTES = {
  required: 1n << 0n,
  readOnly: 1n << 60n,
  hidden: 1n << 62n,
  noDriveLetter: 1n << 63n,
} as const

/** One partition of a GPT, as its entry says. */
export interface GptPartition {
  /** The entry's place in the array, counted from 1; boot settings and scripts refer to it. */
  readonly number: number
  readonly typeGuid: string
  readonly guid: string
  readonly firstLba: number
  /** The last sector that belongs to the partition. */
  readonly lastLba: number
  /** 64 attribute bits as a hexadecimal string of 16 digits, which survives JSON. */
  readonly attributes: string
  readonly name: string
}

/** A whole GPT, without the copies' own positions, which follow from the drive's size. */
export interface GptTable {
  readonly diskGuid: string
  readonly entryCount: number
  readonly entrySize: number
  readonly partitions: readonly GptPartition[]
  /** Partitions that the MBR names a second time, at most three. */
  readonly hybrid?: readonly HybridRecord[]
  /** Start-up code for the MBR's first 440 bytes. */
  readonly bootCode?: Uint8Array
}

/** A partition of a GPT as a hybrid MBR names it. */
export interface HybridRecord {
  readonly number: number
  readonly type: number
  readonly active: boolean
}

/** What a record of an MBR says besides where its partition lies. */
export interface MbrRecord {
  readonly type: number
  readonly active: boolean
  /** An extended partition is only the container of logical ones. */
  readonly kind: 'primary' | 'extended' | 'logical'
  /** Sector of the drive that holds the record. */
  readonly recordLba: number
}

/**
 * A partition of whichever table there is. One of an MBR has no GUIDs: its `typeGuid` is empty and its `guid`
 * is the disk signature with its number, as systems write it.
 */
export type TablePartition = GptPartition & { readonly mbr?: MbrRecord }
