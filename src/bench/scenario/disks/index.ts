import type { BlockDevice } from '@/core/block/device'
import { makeCuttingRoomDisk } from './cutting-room'
import { makeEditingDisk } from './editing-computer'
import { makeFieldLaptopDisk } from './field-laptop'
import { makeHoneyHouseDisk } from './honey-house'
import { makeLightingDeskDisk } from './lighting-desk'
import { makeLogbookArchiveDisk, makeLogbookSystemDisk } from './logbook-server'
import { makeChoirDisk, makeTransferDisk } from './shop'
import { makeSurveyOfficeDisk } from './survey-office'
import { makeTicketDeskDisk } from './ticket-desk'

/** What is written on a drive of the scenario, by its id; a drive that is not named here is new and empty. */
export const DISK_MAKERS: Readonly<Record<string, (device: BlockDevice) => Promise<void>>> = {
  'crv3-240': makeTicketDeskDisk,
  'lmp7-320': makeLightingDeskDisk,
  'crh5-500': makeLogbookSystemDisk,
  'crh5-1000': makeLogbookArchiveDisk,
  'osn1-512': makeFieldLaptopDisk,
  'lmb1-256': makeEditingDisk,
  'crv5-1000': makeCuttingRoomDisk,
  'oss1-128': makeSurveyOfficeDisk,
  'oss1-256': makeHoneyHouseDisk,
  'lmt4-4000': makeTransferDisk,
  'crh2-250': makeChoirDisk,
}
