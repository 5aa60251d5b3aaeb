import * as z from 'zod'
import { berthOf } from '@/core/things/bench'
import { driveName } from '@/core/things/drive'
import { database } from '../database'
import { MoveRow } from '../database/models'
import { readable } from '../database/readable'
import { listImages } from '../images'
import { activeBench, benchState } from '../world'

export const FindQuerySchema = z.object({ q: z.string().trim().max(120).default('') })

/** Something that can be gone to. */
export interface FoundThing {
  readonly kind: 'move' | 'drive' | 'computer' | 'image'
  readonly title: string
  readonly detail: string
  readonly href: string
}

/** So many of each kind are told. */
const MOST = 8

/**
 * What is on the shown bench and holds every word: moves of any state, drives by model, serial and place, computers,
 * images. Without words, the first moves.
 */
export async function findThings(input: unknown): Promise<FoundThing[]> {
  const words = FindQuerySchema.parse(input).q.toLowerCase().split(/\s+/).filter(Boolean)
  await database()
  const { id: benchId } = await activeBench()
  const holds = ({ title, detail }: FoundThing) => {
    const text = `${title}\n${detail}`.toLowerCase()
    return words.every((word) => text.includes(word))
  }
  const moves = await movesOf(benchId)
  if (words.length === 0) return moves.slice(0, MOST)
  const bench = await benchState(benchId)
  const drives = bench.drives.map((drive): FoundThing => {
    const detail = `${drive.serial}, ${berthOf(drive, bench).name}`
    return { kind: 'drive', title: driveName(drive), detail, href: `/drives/${encodeURIComponent(drive.id)}` }
  })
  const computers = bench.computers.map(({ id, name, model }): FoundThing => {
    return { kind: 'computer', title: name, detail: model, href: `/computers/${encodeURIComponent(id)}` }
  })
  const images = (await listImages()).map(({ name, opened, packing }): FoundThing => {
    const href = opened ? `/images/${encodeURIComponent(name)}` : `/images?image=${encodeURIComponent(name)}`
    return { kind: 'image', title: name, detail: opened?.format ?? packing ?? 'cannot be opened', href }
  })
  return [moves, drives, computers, images].flatMap((all) => all.filter(holds).slice(0, MOST))
}

const STANDING = { 'given-up': 'given up', 'put-off': 'put off' } as const

async function movesOf(benchId: string): Promise<FoundThing[]> {
  const rows = await MoveRow.findAll({
    where: { benchId },
    attributes: ['id', 'brief', 'handover', 'standing'],
    order: [['position', 'ASC']],
  })
  const { found } = readable(rows, ({ id, brief, handover, standing }): FoundThing => {
    const state = handover ? 'handed over' : standing ? STANDING[standing.kind] : undefined
    const detail = [brief.customer, state].filter(Boolean).join(', ')
    return { kind: 'move', title: brief.name, detail, href: `/moves/${id}` }
  })
  return found
}
