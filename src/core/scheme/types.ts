/** Partition type GUIDs this program knows by name (UEFI 2.10 table 5.7 and the systems' own publications). */
export const TYPE_GUIDS = {
  efiSystem: 'c12a7328-f81f-11d2-ba4b-00a0c93ec93b',
  reserved: 'e3c9e316-0b5c-4db8-817d-f92df00215ae',
  basicData: 'ebd0a0a2-b9e5-4433-87c0-68b6b72699c7',
  recovery: 'de94bba4-06d1-4d40-a16a-bfd50179d6ac',
  linuxData: '0fc63daf-8483-4772-8e79-3d69d8477de4',
  linuxSwap: '0657fd6d-a4ab-43c4-84e5-0933c84b4f4f',
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
}
