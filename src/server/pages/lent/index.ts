import { networkInterfaces } from 'node:os'
import { Worker } from 'node:worker_threads'
import * as z from 'zod'
import { CoreError } from '@/core/errors'
import { lentDescription } from '@/core/lent/plate'
import { LOOPBACK, type LentView } from '@/core/lent/view'
import { plateMatches, platePrefix } from '@/core/ready/plate-check'
import { berthOf } from '@/core/things/bench'
import { type Drive, driveName } from '@/core/things/drive'
import { line } from '@/core/words-schema'
import { nbdUri } from '@/nbd/address'
import { keyOfCode, LENT_IDENTITY, newCode } from '@/nbd/key'
import type { LenderEvent } from '@/nbd/lender'
import { freeId } from '../../ground/ids'
import { publish } from '../../ground/events'
import { log } from '../../ground/log'
import { Refusal } from '../../ground/refusals'
import { imagePath } from '../../images/names'
import { leasableDrive, leasableImage, startWithLease } from '../../leases'
import { reservedDrives } from '../../moves/reserved-drives'
import { benchName, benchOf, benchOfDrive, driveById } from '../../world'
import { type LookedAt, LookedAtSchema, subjectOf, surveyOf } from '../../world/looked-at'
import { borrowedState } from './borrow'
import type { FromLender, LendOrder, ToLender } from './messages'
import { type Lent, lentNow, loansOf, NOTHING, startingNow, together } from './now'

/** So many are lent at once. */
const MOST_LENT = 8

const LendSchema = z.object({
  subject: LookedAtSchema,
  address: line().max(60),
  port: z.number().int().min(0).max(65_535).default(0),
  /** To be written over: a drive whose plate is typed. */
  writable: z.boolean().default(false),
  plate: line().max(40).default(''),
  /** This partition alone, by its number in the table. */
  partition: z.number().int().min(1).max(1024).nullable().default(null),
  /** Ends after the first that had all it wanted. */
  once: z.boolean().default(false),
  /** A code by which it was lent before, so that whoever has it need not be told another. */
  code: line().max(40).optional(),
})

/** Lends a drive or an image, at an address of this computer. Returns its id. Rejects with Refusal. */
export async function lend(input: unknown): Promise<string> {
  const wanted = LendSchema.parse(input)
  const { subject, address, code } = wanted
  if (code !== undefined) expectCode(code)
  if (!addressesHere().some((a) => a.address === address)) throw new Refusal('lent-no-address', { address })
  const key = keyOf(subject)
  const starting = startingNow()
  if (isLent(subject) || starting.has(key)) throw new Refusal('lent-already')
  if (lentNow().size + starting.size >= MOST_LENT) throw new Refusal('lent-full', { most: MOST_LENT })
  starting.add(key)
  try {
    return await startLent(wanted)
  } finally {
    starting.delete(key)
  }
}

function expectCode(code: string): void {
  try {
    keyOfCode(code)
  } catch (error) {
    if (error instanceof CoreError) throw new Refusal('lent-failed', { why: error.message })
    throw error
  }
}

const isLent = (subject: LookedAt) => [...lentNow().values()].some((l) => keyOf(l.subject) === keyOf(subject))

const keyOf = ({ kind, id }: LookedAt) => `${kind} ${id}`

async function startLent(wanted: Wanted): Promise<string> {
  const { subject, address, port, writable, plate, partition, once, code = newCode() } = wanted
  const { name: whole, description, leasable, drive } = await lendable(subject)
  const name = partition === null ? whole : `${whole}, partition ${partition}`
  if (writable) await expectTarget(drive, plate)
  const request = {
    ...{ purpose: 'lending it over the network', needsPower: true },
    ...(writable ? { write: [leasable] } : { read: [leasable] }),
  }
  return startWithLease(request, async (lease) => {
    const id = await freeId(name, 'lent', async (taken) => lentNow().has(taken))
    const order = {
      ...{ subject: await subjectOf(subject), exportName: id, host: address, port, code, writable, partition, once },
      // A partition is no drive, and has no plate.
      description: partition === null ? description : name,
    }
    await startLending({ id, subject, name, order, lease })
    log.info({ lent: name, address, writable }, 'lent over the network')
    publish({ type: 'changed', moveId: null })
    return id
  })
}

type Wanted = z.infer<typeof LendSchema>

/** A drive that may be written over by whoever borrows it: its plate was typed, and nothing here rests on it. */
async function expectTarget(drive: Drive | undefined, plate: string): Promise<void> {
  if (!drive) throw new Refusal('lent-image-as-target')
  const name = driveName(drive)
  if (!plateMatches(drive.serial, plate)) throw new Refusal('plate-wrong', { drive: name })
  const { benchId } = await benchOf(drive.id)
  const why = (await reservedDrives(await benchOfDrive(drive.id), benchId, undefined)).get(drive.id)
  if (why) throw new Refusal('lent-failed', { why })
}

/** What it is called, what it is described as, and what is used of it. A drive has to be connected to something. */
async function lendable(subject: LookedAt) {
  if (subject.kind === 'images') {
    const leasable = await leasableImage(await imagePath(subject.id), subject.id)
    return { name: subject.id, description: subject.id, leasable, drive: undefined }
  }
  const drive = await driveById(subject.id)
  const bench = await benchOfDrive(drive.id)
  const name = driveName(drive)
  if (berthOf(drive, bench).link === undefined) throw new Refusal('drive-not-connected', { drive: name })
  if (drive.borrowed) throw new Refusal('lent-on', { drive: name })
  const { place } = drive
  const computer = place.kind === 'slot' ? bench.computers.find((c) => c.id === place.computerId) : undefined
  const { benchId } = await benchOf(drive.id)
  const description = lentDescription(drive, await benchName(benchId), computer)
  return { name, description, leasable: await leasableDrive(drive), drive }
}

interface Starting extends Pick<Lent, 'id' | 'subject' | 'name' | 'lease'> {
  readonly order: LendOrder
}

async function startLending({ id, subject, name, order, lease }: Starting): Promise<void> {
  const worker = new Worker(new URL('./lend.worker.ts', import.meta.url), { workerData: order })
  await new Promise<void>((listens, failed) => {
    const lent: Lent = {
      ...{ id, subject, name, worker, lease, code: order.code, writable: order.writable, wrongKeys: 0 },
      ...{ uri: '', address: '' },
      ...{ connections: new Map(), movedBefore: new Map(), started: { listens, failed } },
    }
    lentNow().set(id, lent)
    worker.on('message', (message: FromLender) => receive(lent, message))
    worker.on('error', (error) => {
      log.error(error)
      failed(new Refusal('lent-failed', { why: 'Its thread ended.' }))
    })
    worker.on('exit', () => {
      lentNow().delete(id)
      lease.release()
      failed(new Refusal('lent-failed', { why: 'Its thread ended.' }))
      publish({ type: 'changed', moveId: null })
    })
  }).catch((error: unknown) => {
    // What could not be lent is free at once, although its thread may take a moment to end.
    lentNow().delete(id)
    throw error
  })
}

function receive(lent: Lent, message: FromLender): void {
  if (message.type === 'listens') {
    const { host, port } = message
    lent.address = `${host}, port ${port}`
    lent.uri = nbdUri({ tls: true, host, port, exportName: lent.id, identity: LENT_IDENTITY })
    return lent.started.listens()
  }
  if (message.type === 'failed') return lent.started.failed(new Refusal('lent-failed', { why: message.message }))
  if (message.type === 'borrowers') for (const one of message.borrowers) lent.connections.set(one.id, one)
  else take(lent, message.event)
  publish({ type: 'changed', moveId: null })
}

function take(lent: Lent, event: LenderEvent): void {
  if (event.type === 'wrong key') {
    lent.wrongKeys = event.tries
    log.warn({ lent: lent.name, peer: event.peer, tries: event.tries }, 'asked for with another code')
    return
  }
  const { id, peer, readBytes, writtenBytes } = event.borrower
  if (event.type === 'asks' || event.type === 'has it') lent.connections.set(id, event.borrower)
  else {
    lent.connections.delete(id)
    if (event.type === 'ended')
      lent.movedBefore.set(peer, together(lent.movedBefore.get(peer) ?? NOTHING, event.borrower))
  }
  log.info({ lent: lent.name, peer, readBytes, writtenBytes }, `borrower ${event.type}`)
}

const PeerSchema = z.object({ lent: line().max(80), peer: line().max(80) })

/** Answers whoever asks from an address. Rejects with Refusal where nobody does. */
export async function answerBorrower(input: unknown): Promise<void> {
  const { lent: id, peer, yes } = PeerSchema.extend({ yes: z.boolean() }).parse(input)
  const lent = lentById(id)
  if (!loansOf(lent).some((l) => l.peer === peer && l.state === 'asks')) throw new Refusal('lent-nobody-asks', { peer })
  // It has its answer, whatever comes of it; whoever asks next is another question.
  for (const [number, one] of lent.connections)
    if (one.peer === peer && one.state === 'asks') lent.connections.delete(number)
  tell(lent, { type: 'answer', peer, yes })
}

/** Takes the yes to an address back; its connections end. */
export async function takeLoanBack(input: unknown): Promise<void> {
  const { lent: id, peer } = PeerSchema.parse(input)
  const lent = lentById(id)
  if (!loansOf(lent).some((l) => l.peer === peer && l.state === 'has it'))
    throw new Refusal('lent-nobody-has', { peer })
  tell(lent, { type: 'take back', peer })
}

/** Lends something no more, whoever has it. */
export async function endLending(input: unknown): Promise<void> {
  const { lent: id } = PeerSchema.pick({ lent: true }).parse(input)
  const lent = lentById(id)
  const over = new Promise<void>((done) => lent.worker.once('exit', () => done()))
  tell(lent, { type: 'end' })
  await over
}

const tell = (lent: Lent, message: ToLender) => lent.worker.postMessage(message)

function lentById(id: string): Lent {
  const found = lentNow().get(id)
  if (!found) throw new Refusal('lent-unknown')
  return found
}

/** Addresses of this computer that can be listened at: its own first. */
function addressesHere(): { address: string; name: string }[] {
  const found = Object.entries(networkInterfaces()).flatMap(([name, addresses]) =>
    (addresses ?? [])
      .filter((a) => !a.internal && !a.address.startsWith('fe80'))
      .map((a) => ({ address: a.address, name })),
  )
  return [{ address: LOOPBACK, name: '' }, ...found]
}

/** Everything that the page of lent things shows; `asked` is what it was opened for, if anything. */
export async function lentState(asked: unknown) {
  const subject = LookedAtSchema.safeParse(asked).data
  const lent = [...lentNow().values()].map((one): LentView => {
    const { id, name, subject: of, code, writable, uri, address, wrongKeys } = one
    return {
      id,
      name,
      href: `/${of.kind}/${encodeURIComponent(of.id)}`,
      code,
      writable,
      uri,
      address,
      wrongKeys,
      loans: loansOf(one),
    }
  })
  const offered = subject && !isLent(subject) ? await offerOf(subject) : null
  return { lent, offered, addresses: addressesHere(), ...(await borrowedState()) }
}

async function offerOf(subject: LookedAt) {
  const { name, drive } = await lendable(subject)
  const plate = drive && { model: drive.model, detail: driveName(drive), prefix: platePrefix(drive.serial) }
  const { partitions } = await surveyOf(subject)
  return { subject, name, plate: plate ?? null, partitions: partitions.map(({ number, title }) => ({ number, title })) }
}
