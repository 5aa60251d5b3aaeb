import { lowerFirst } from '../words'
import * as z from 'zod'
import { line } from '../words-schema'
import { type JsonPath, readJsonFile } from '../json-file'
import { AccessorySchema, baysOf, bracketCount } from './accessory'
import { placeKey, slotAt } from './bench'
import { needsBracket, whyNotInto } from './bodies'
import { ComputerSchema } from './computer'
import { DriveSchema, driveName } from './drive'

/** A drive as a bench file has it: its description, and what stands for its bytes. */
export const DriveInFileSchema = DriveSchema.omit({ file: true, borrowed: true }).extend({
  /** `blank`: an empty drive; `image`: the image named; `described`: no bytes at all. */
  content: z.enum(['blank', 'image', 'described']),
})

/** A bench as JSON, for another installation of the program. Bytes of drives are not in it. */
export const BenchFileSchema = z.object({
  $schema: z.string().optional(),
  format: z.literal('imbarco bench'),
  version: z.literal(1),
  name: line().trim().min(1).max(80),
  computers: z.array(ComputerSchema).max(200),
  accessories: z.array(AccessorySchema).max(400),
  drives: z.array(DriveInFileSchema).max(1000),
})
export type BenchFile = z.infer<typeof BenchFileSchema>

/** Reads a bench file. Throws JsonFileError with the line, the column and the path of the first thing wrong. */
export function readBenchFile(text: string): BenchFile {
  return readJsonFile(text, BenchFileSchema, contradiction)
}

/** What each part allows but the whole does not. */
function contradiction(file: BenchFile): { path: JsonPath; what: string } | undefined {
  const { computers, accessories } = file
  for (const list of ['computers', 'accessories', 'drives'] as const) {
    const twice = repeated(file[list].map((t) => t.id))
    if (twice >= 0) return { path: [list, twice, 'id'], what: 'this id is there twice' }
  }
  for (const [i, computer] of computers.entries()) {
    const path = ['computers', i]
    const twice = repeated(computer.slots.map((s) => s.id))
    if (twice >= 0) return { path: [...path, 'slots', twice, 'id'], what: 'this slot is there twice' }
    if (!computer.slots.some((s) => s.id === computer.homeSlot))
      return { path: [...path, 'homeSlot'], what: `the computer has no slot "${computer.homeSlot}"` }
  }
  for (const [i, accessory] of accessories.entries()) {
    const twice = repeated(baysOf(accessory).map((b) => b.id))
    if (twice >= 0) return { path: ['accessories', i, 'bays', twice, 'id'], what: 'this bay is there twice' }
  }
  return contradictionOfDrives(file)
}

function contradictionOfDrives({
  computers,
  accessories,
  drives,
}: BenchFile): { path: JsonPath; what: string } | undefined {
  const bench = { computers, accessories, drives: [] }
  const brackets = bracketCount(accessories)
  const taken = new Map<string, string>()
  const images = new Map<string, string>()
  let bracketed = 0
  for (const [i, drive] of drives.entries()) {
    const path = ['drives', i, 'place']
    if (drive.content === 'image' && drive.image === null)
      return { path: ['drives', i, 'image'], what: 'the image that stands for the drive is not named' }
    if (drive.content === 'image' && drive.image !== null) {
      const other = images.get(drive.image)
      if (other) return { path: ['drives', i, 'image'], what: `this image stands for the ${other} already` }
      images.set(drive.image, driveName(drive))
    }
    if (drive.sizeBytes % drive.logicalSectorSize !== 0)
      return { path: ['drives', i, 'sizeBytes'], what: 'it is not a whole number of sectors' }
    if (drive.place.kind === 'shelf' || drive.place.kind === 'table') continue
    const { place } = drive
    if (place.kind === 'far') {
      if (accessories.some((a) => a.id === place.accessoryId && a.kind === 'far-bench')) continue
      return { path, what: 'the file has no such place' }
    }
    const slot = slotAt(bench, drive.place)
    if (!slot) return { path, what: 'the file has no such place' }
    if (needsBracket(drive.body, slot)) bracketed++
    const misfit = whyNotInto(drive, slot, brackets >= bracketed ? 1 : 0)
    if (misfit) return { path, what: `the ${driveName(drive)} does not go there: ${lowerFirst(misfit.sentence)}` }
    const other = taken.get(placeKey(drive.place))
    if (other) return { path, what: `the ${other} sits there already` }
    taken.set(placeKey(drive.place), driveName(drive))
  }
  return undefined
}

function repeated(ids: readonly string[]): number {
  return ids.findIndex((id, i) => ids.indexOf(id) < i)
}
