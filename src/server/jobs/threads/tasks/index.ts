import { checkDriveMaps } from './check-maps'
import { comparePairs } from './compare-drives'
import { planRepairs, readAddresses, readDrivers, readForGoal, rehearseLayout } from './drive-readings'
import { eraseDrive } from './erase'
import {
  captureDrive,
  compactImage,
  compareDisks,
  convertImage,
  imagesInVolumes,
  packMachine,
  removeStored,
  takeImage,
  unpackMachine,
  verifyImage,
} from './images'
import { listFolder, readAround, readFilePart, readSector, statFile } from './look'
import { type FoundFile, listTree, searchFiles } from './search'
import { giveRoomBack, makeRoom, settleRoom } from './make-room'
import { measureDrive, measureReading } from './measure'
import { makeRepair, readRepair, settleDriveRepair, undoDriveRepair } from './repairs'
import { followAlone, repairAlone, undoAlone } from './start-alone'
import { surveySubject } from './survey'
import { followStart } from './trial'
import { wake } from './wake'

/** What may be asked of a task while it runs, and what it tells. */
export interface TaskControl {
  /** Aborted when it is to stop. One that only reads may be ended without being asked. */
  readonly signal: AbortSignal
  progress(what: TaskProgress): void
}

export interface TaskProgress {
  readonly done: number
  readonly total: number
  /** What it is about at the moment. */
  readonly title?: string
  /** Files that a search met since it last told. */
  readonly found?: readonly FoundFile[]
}

/** Everything that runs in a thread of its own, by name: from plain values to plain values. */
export const TASKS = {
  captureDrive,
  compactImage,
  checkDriveMaps,
  compareDisks,
  comparePairs,
  convertImage,
  unpackMachine,
  eraseDrive,
  followAlone,
  followStart,
  giveRoomBack,
  wake,
  imagesInVolumes,
  listFolder,
  listTree,
  makeRepair,
  makeRoom,
  measureDrive,
  measureReading,
  packMachine,
  planRepairs,
  readAddresses,
  readAround,
  readDrivers,
  readFilePart,
  readForGoal,
  readRepair,
  readSector,
  rehearseLayout,
  removeStored,
  repairAlone,
  searchFiles,
  settleDriveRepair,
  settleRoom,
  statFile,
  surveySubject,
  takeImage,
  undoAlone,
  undoDriveRepair,
  verifyImage,
}

export type TaskName = keyof typeof TASKS
export type TaskOrder<N extends TaskName> = Parameters<(typeof TASKS)[N]>[0]
export type TaskResult<N extends TaskName> = Awaited<ReturnType<(typeof TASKS)[N]>>
