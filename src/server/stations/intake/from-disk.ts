import * as z from 'zod'
import { COMPUTER_MODELS, ACCESSORY_MODELS, DRIVE_MODELS } from '@/bench/catalogue'
import { GIB } from '@/core/bytes/size'
import { whyNotTaken } from '@/core/intake/brief'
import { proposeFor } from '@/core/intake/propose'
import { contentWords } from '@/core/survey/words'
import { baysOf } from '@/core/things/accessory'
import { type BenchState, berthsOf, driveIn, whyNotThere } from '@/core/things/bench'
import { type Fitted, type Slot, whyNotInto } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { type Drive, driveName } from '@/core/things/drive'
import { line } from '@/core/words-schema'
import { provider } from '@/outside/provider'
import { inTransaction } from '../../database/transaction'
import { Refusal } from '../../ground/refusals'
import { newMove } from '../../moves/change'
import { freeTargets } from '../../moves/free-targets'
import { type LookedAt, LookedAtSchema, surveyOf } from '../../world/looked-at'
import { activeBench, benchState, changeComputer, driveById, placeDrive } from '../../world'
import { driveOfImage } from '../../world/image-drives'
import { removeBytes } from '../../world/make'
import { addDrive, MODEL_IDS, saveAccessory, saveComputer } from '../../world/things'

type ModelId = Exclude<(typeof MODEL_IDS)[number], 'emmc'>
/** What is built in comes with its computer, which is described on the bench. */
const KINDS = MODEL_IDS.filter((id): id is ModelId => id !== 'emmc')

/** What the form proposes for a drive or an image whose system is to be moved. */
export async function systemForm(input: unknown) {
  const subject = LookedAtSchema.parse(input)
  const survey = await surveyOf(subject)
  const drive = await driveOf(subject)
  const { id: benchId, name: benchName } = await activeBench()
  const bench = await benchState(benchId)
  const home = drive?.place.kind === 'slot' ? drive.place.computerId : null
  return {
    subject,
    /** As it is called: a file's name, or a drive's. */
    called: drive ? driveName(drive) : subject.id,
    holds: contentWords(survey),
    systems: survey.partitions.flatMap((p) => (p.system ? [p.system.name] : [])),
    usedBytes: survey.usedBytes,
    sizeBytes: survey.sizeBytes,
    scheme: survey.scheme,
    proposal: proposeFor(survey, drive && drive.image === null ? driveName(drive) : (drive?.image ?? subject.id)),
    /** The computer that it sits in. */
    home,
    computers: bench.computers.map((c) => ({ id: c.id, name: c.name, model: c.model })),
    models: KINDS.map((id) => ({ id, label: DRIVE_MODELS[id].label })),
    /** The kind that it is, of a drive of the bench. */
    model: drive ? modelLike(drive) : null,
    targets: await freeTargets(bench, benchId, drive?.id),
    /** What a copy needs and the bench does not have, as words. */
    lacks: KINDS.map((id) => ({ id, words: lacking(bench, DRIVE_MODELS[id]).map((a) => a.name.toLowerCase()) })),
    benchName,
    isSeen: !provider().isTold,
  }
}

/** The drive that is looked at, or that stands for the image. */
async function driveOf({ kind, id }: LookedAt): Promise<Drive | undefined> {
  if (kind === 'drives') return driveById(id)
  return driveOfImage(id)
}

function modelLike({ body, protocol, kind }: Drive): ModelId {
  const alike = KINDS.find((id) => {
    const model = DRIVE_MODELS[id]
    return model.body.form === body.form && model.protocol === protocol && model.kind === kind
  })
  return alike ?? KINDS.find((id) => DRIVE_MODELS[id].protocol === protocol) ?? KINDS[0]
}

const kindSchema = z.enum(KINDS)

const SystemSchema = z.object({
  subject: LookedAtSchema,
  /** What kind of drive an image stands for. */
  kind: kindSchema,
  computer: z.discriminatedUnion('from', [
    z.object({ from: z.literal('bench'), id: line().min(1).max(80) }),
    z.object({
      from: z.literal('new'),
      name: line().trim().min(1, 'A computer needs a name').max(80),
      mode: z.enum(['uefi', 'bios']),
      memoryGib: z.number().int('Write the memory in whole GiB').min(1).max(4096),
    }),
  ]),
  target: z.discriminatedUnion('from', [
    z.object({ from: z.literal('bench'), id: line().min(1).max(80) }),
    z.object({
      from: z.literal('new'),
      kind: kindSchema,
      serial: line().trim().min(4, 'The serial has at least four characters').max(40),
      sizeBytes: z.number().int().positive(),
    }),
  ]),
  name: line().trim().min(1, 'A move needs a name').max(80),
  customer: line().trim().min(1, 'A move needs a customer').max(80),
})

/**
 * Opens a move of a disk's system, with all that it needs and the bench does not have yet: the computer, the new drive,
 * a dock, a stick. All or nothing. Returns the move's id. Rejects with Refusal.
 */
export async function moveSystem(input: unknown): Promise<string> {
  const wanted = SystemSchema.parse(input)
  let made: string | undefined
  try {
    return await inTransaction(async () => {
      const drive = (await driveOf(wanted.subject)) ?? (await putImage(wanted))
      const computerId = await computerFor(wanted, drive)
      const target = await targetFor(wanted)
      if (wanted.target.from === 'new') made = target.file ?? undefined
      for (const accessory of lacking(await benchState(), target)) await saveAccessory({ ...accessory, id: '' })
      const brief = {
        name: wanted.name,
        customer: wanted.customer,
        reason: 'more room' as const,
        computerId,
        pairs: [{ sourceId: drive.id, targetId: target.id }],
        toVirtualMachine: false,
        targetComputerId: null,
        images: [],
        backup: null,
        promised: '',
      }
      const why = whyNotTaken(brief)
      if (why) throw new Refusal('move-contradicts-itself', { why })
      return newMove(brief)
    })
  } catch (error) {
    // What was stored of it is taken back with the transaction; the file of the new drive is not part of that.
    if (made) await removeBytes(made)
    throw error
  }
}

async function putImage({ subject, kind }: z.infer<typeof SystemSchema>): Promise<Drive> {
  return driveById(await addDrive({ from: 'image', image: subject.id, kind }))
}

/** The computer of the move, with the drive in it where a place is free. */
async function computerFor({ computer }: z.infer<typeof SystemSchema>, drive: Drive): Promise<string> {
  if (drive.place.kind === 'slot') return drive.place.computerId
  const id = computer.from === 'bench' ? computer.id : await saveComputer(describe(computer, drive))
  if (drive.place.kind !== 'table') return id
  if (computer.from === 'bench') {
    const bench = await benchState()
    const free = berthsOf(bench).find(
      ({ berth }) =>
        berth.kind === 'slot' &&
        berth.computerId === id &&
        !driveIn(bench, berth) &&
        whyNotThere(drive, berth, bench) === undefined,
    )
    if (free) await placeDrive(drive.id, free.berth)
    return id
  }
  const { slots } = (await benchState()).computers.find((c) => c.id === id)!
  await placeDrive(drive.id, { kind: 'slot', computerId: id, slot: slots[0].id })
  await changeComputer(id, { mains: true })
  return id
}

/** A computer as usual with a place for such a drive. */
function describe(
  { name, mode, memoryGib }: { name: string; mode: 'uefi' | 'bios'; memoryGib: number },
  drive: Fitted,
): Omit<Computer, 'id'> & { id: '' } {
  const like = Object.values(COMPUTER_MODELS).find((model) =>
    (model.slots as readonly Slot[]).some((slot) => !slot.drivers && !whyNotInto(drive, slot, 0)),
  )
  const { slots, chassis } = like ?? COMPUTER_MODELS['brezza-t20']
  const slot = slots.find((s) => !whyNotInto(drive, s, 0)) ?? slots[0]
  const usual = COMPUTER_MODELS['brezza-t20']
  return {
    ...usual,
    id: '',
    name,
    model: 'described from its disk',
    firmware: {
      ...usual.firmware,
      mode,
      // A disk does not tell whether it was on.
      secureBoot: false,
      startsFromNvme: mode === 'uefi' || drive.protocol === 'PCIe',
      startsBeyond2Tib: mode === 'uefi',
    },
    memoryBytes: memoryGib * GIB,
    slots: [slot],
    homeSlot: slot.id,
    sockets: usual.sockets.map((s) => ({ ...s })),
    chassis,
  }
}

async function targetFor({ target }: z.infer<typeof SystemSchema>): Promise<Drive> {
  if (target.from === 'bench') return driveById(target.id)
  const { kind, serial, sizeBytes } = target
  const id = await addDrive({
    ...{ from: 'blank', kind, model: 'New drive', serial, sizeBytes, logicalSectorSize: 512, purpose: 'customer' },
  })
  return driveById(id)
}

/** What a copy to such a drive needs besides, and the bench does not have: a stick to start from, and a place outside. */
function lacking(bench: BenchState, target: Fitted) {
  if (!provider().isTold) return []
  const has = (kind: string) => bench.accessories.some((a) => a.kind === kind)
  const outside = [
    ACCESSORY_MODELS['dock-two'],
    ACCESSORY_MODELS['nvme-enclosure'],
    ACCESSORY_MODELS['m2-sata-enclosure'],
    ACCESSORY_MODELS['blade-enclosure'],
  ]
  const takes = (bays: readonly Slot[]) => bays.some((bay) => !whyNotInto(target, bay, 0))
  const place = bench.accessories.some((a) => takes(baysOf(a))) ? undefined : outside.find((a) => takes(a.bays))
  return [...(has('stick') || has('host') ? [] : [ACCESSORY_MODELS.stick]), ...(place ? [place] : [])]
}
