import { randomBytes } from 'node:crypto'
import { rm } from 'node:fs/promises'
import { setPriority } from 'node:os'
import { setImmediate } from 'node:timers/promises'
import { parentPort, workerData } from 'node:worker_threads'
import { type OpenDrive, openDrive } from '@/outside/open-drive'
import { openFolder, openMedium } from '@/outside/open-medium'
import { surroundingsOf } from '@/outside/provider'
import { type BlockDevice, DeviceGone, UnreadableSectors } from '@/core/block/device'
import { ReadTogether } from '@/core/block/read-together'
import type { RescueLimits } from '@/core/block/read-around'
import { readOnly } from '@/core/block/readonly'
import { ReadOnlyWrapper, WrappedDevice } from '@/core/block/wrapped'
import { formatSize } from '@/core/bytes/size'
import { CheckFailed } from '@/core/copy/check'
import { scopeOf } from '@/core/copy/choices'
import type { IdleKind } from '@/core/copy/idle-kinds'
import { type CopyPlan, planCopy } from '@/core/copy/plan'
import { planInto } from '@/core/copy/plan-into'
import { PointInTimeSource } from '@/core/copy/point-in-time'
import type { Lost } from '@/core/copy/progress'
import { letStart, letStartBeside } from '@/core/copy/let-start'
import { addPlace, putOf, retryPut, runPut } from '@/core/copy/put-volume'
import { retryLost } from '@/core/copy/retry'
import { type CopyOptions, type CopyOutcome, type CopyPhase, NotItsTarget, runCopy } from '@/core/copy/run'
import { workDigest } from '@/core/copy/work'
import { CoreError } from '@/core/errors'
import { takeSamples } from '@/core/proof/samples'
import { settleRepair } from '@/core/repair/apply'
import { fingerprintOf } from '@/core/survey/fingerprint'
import { surveyDrive } from '@/core/survey/survey'
import { counted } from '@/core/words'
import { HostFull } from '@/host/errors'
import { openJournal } from '@/host/journal-file'
import { RawFile } from '@/host/raw-file'
import { repairIn, repairJournal } from '@/host/repair-journal'
import { sha256 } from '@/host/sha256'
import { blake3, BLAKE3 } from '@/host/strong-digest'
import { unfinishedName, writeImageInto } from '@/host/write-image'
import { log } from '../ground/log'
import type { CopyOrder, CopyPart, FromWorker, LetStarted, ToWorker } from './messages'
import { CopyMeter } from './meter'
import { PatientDevice } from './patient-device'

/** Ends the copy because a person asked for it. */
class StoppedByPerson extends Error {}

const REPORT_EVERY_MS = 200
/** Somewhat behind the thread that answers pages. */
const PRIORITY = 5
const order = workerData as CopyOrder
/** The drive that is being copied, of several that are copied as they were at one moment. */
let part: CopyPart = order
const send = (message: FromWorker) => parentPort!.postMessage(message)
const note = (text: string, tone: 'plain' | 'good' | 'bad' = 'plain') => send({ type: 'note', text, tone })
const around = surroundingsOf(order.world, order.pace)
let meter: CopyMeter | undefined
/** What is shown of the drive that a system runs from. */
let running: PointInTimeSource | undefined
/** The source, where others read it together with this copy. */
let together: ReadTogether | undefined
/** Drives that were taken out meanwhile, with the words for it. */
const gone = new Map<string, string>()
let ending: Error | undefined
let endWaiting: (error: Error) => void = () => {}
/** Ends what waits for a connection, together with the copy. */
const ended = new Promise<never>((_, reject) => (endWaiting = reject))
ended.catch(() => {})
let resumed: (() => void) | undefined
let paused: Promise<void> | undefined

parentPort!.on('message', (message: ToWorker) => {
  if (message.type === 'stop') ending ??= new StoppedByPerson()
  if (message.type === 'gone') {
    gone.set(message.driveId, message.what)
    // Of several targets the others go on without it.
    const sources = [order, ...(order.rest ?? [])].map((one) => one.source.id)
    const alone = sources.includes(message.driveId) || part.targets.length === 1
    if (alone) ending ??= new DeviceGone(message.what)
  }
  if (ending) endWaiting(ending)
  if (message.type === 'pace') around.setPace(message.pace)
  if (message.type === 'pause') paused ??= new Promise((resolve) => (resumed = resolve))
  if (message.type === 'pause') meter?.mark('paused', 'paused')
  if (message.type === 'resume' || ending) {
    resumed?.()
    paused = undefined
    around.restart()
  }
})

const checkpoint = () => {
  if (ending) throw ending
}

async function work(): Promise<void> {
  const opened: Pick<OpenDrive, 'device' | 'close'>[] = []
  const open = async (medium: CopyOrder['source'], writable: boolean) => {
    const lent = medium.kind === 'drive' && medium.by === 'network' ? await openLent(medium, writable) : undefined
    const one =
      lent ?? (writable && medium.kind === 'drive' ? await openDrive(medium, { writable }) : await openMedium(medium))
    opened.push(one)
    // The last look before the first write: still what was surveyed and confirmed?
    if (medium.fingerprint !== undefined && (await fingerprintOf(one.device)) !== medium.fingerprint) {
      throw new CoreError(`The ${medium.title} has changed since it was surveyed, so nothing was written.`)
    }
    return one.device
  }
  try {
    const parts = [order, ...(order.rest ?? [])]
    // Every moment begins before any byte is read, so that all of them are one.
    const moments = new Map<CopyPart, PointInTimeSource>()
    for (const one of parts) if (one.live) moments.set(one, await beginMoment(one, opened))
    if (moments.size > 1) note(`${moments.size} drives as they are at this one moment`)
    try {
      for (const one of parts) {
        part = one
        running = moments.get(one)
        const source = await open(part.source, false)
        if (order.together) together = new ReadTogether(source, order.together.window, order.together.member)
        await copyPart(running ? readOnly(running.device) : (together ?? source), open)
      }
    } finally {
      for (const moment of moments.values()) moment.close()
      together?.leave()
    }
  } finally {
    for (const one of opened) await one.close()
  }
}

type LentMedium = Extract<CopyOrder['source'], { kind: 'drive' }>

/** Opens a drive that another bench lends: while its connection is lost, the copy waits. */
async function openLent(medium: LentMedium, writable: boolean): Promise<Pick<OpenDrive, 'device' | 'close'>> {
  const { title, fingerprint } = medium
  let lost = 0
  const { device, close } = await openDrive(medium, {
    writable,
    onLink: (isThere) => {
      if (!isThere) lost++
    },
  })
  const patient = new PatientDevice(device, {
    ended,
    lost: () => lost,
    onAway: (away) => {
      const why = `There is no connection to the bench that lends the ${title}. The copy goes on by itself when it is back.`
      send({ type: 'waits', why: away ? why : null })
      if (away) meter?.mark('away', 'no connection')
      note(
        away ? `no connection to the ${title}; the copy waits for it` : `the ${title} is connected again`,
        away ? 'bad' : 'good',
      )
      around.restart()
    },
    // A target changes by what is written to it; a source must not.
    ...(writable || fingerprint === undefined
      ? {}
      : {
          recheck: async (now) => {
            if ((await fingerprintOf(now)) === fingerprint) return
            throw new CoreError(`What is lent as the ${title} is another disk since the connection was lost.`)
          },
        }),
  })
  return { device: patient, close }
}

/** Lets the system of a computer that runs write to its drive, and keeps the drive as it is now for whoever copies it. */
async function beginMoment(
  { source, live }: CopyPart,
  opened: Pick<OpenDrive, 'device' | 'close'>[],
): Promise<PointInTimeSource> {
  if (!live || source.kind !== 'drive') throw new CoreError('Only a drive of a computer is copied while that runs.')
  // The computer that runs from this drive writes to it by itself; the copy only ever gets to read.
  const own = await openDrive(source, { writable: true })
  opened.push(own)
  const drive = await around.goOnWriting(own.device, live)
  // What the snapshot keeps may be more than memory is for; it is of no use once the copy has ended, however it does.
  const { snapshotFile: kept } = live
  await rm(kept, { force: true })
  const aside = await RawFile.create(kept, drive.size, drive.logicalSectorSize)
  opened.push({
    device: aside,
    close: async () => {
      await aside.close()
      await rm(kept, { force: true })
    },
  })
  return new PointInTimeSource(drive, order.choices.snapshotMib, live.direct, aside)
}

type Open = (medium: CopyPart['source'], writable: boolean) => Promise<BlockDevice>

/** Copies one drive to where it goes. */
async function copyPart(source: BlockDevice, open: Open): Promise<void> {
  const [image] = part.targets
  if (image.kind === 'image') return copyInto(image, source)
  const targets: BlockDevice[] = []
  for (const target of part.targets) targets.push(new PullableDevice(await open(target, true), target.id))
  if (order.task.kind === 'retry') await retry(source, targets[0], order.task)
  else if (part.put) await putInto(targets[0], part.put, source)
  else await copyOnto(targets, source)
}

/** Puts a volume into its partition, and has its system start from there. */
async function putInto(target: BlockDevice, put: NonNullable<CopyPart['put']>, source: BlockDevice): Promise<void> {
  if (part.targets.length > 1) throw new CoreError('A volume goes into the partition of one drive at a time.')
  const { layout } = part
  // Of a system that runs nothing can be taken up: it has gone on meanwhile.
  const journal = running ? undefined : await openJournal(part.journal, { resume: order.resume !== undefined })
  try {
    const { entryFile, tableFile } = put
    for (const file of [tableFile, entryFile]) {
      const record = await repairIn(file)
      if (record) await settleRepair(target, record, repairJournal(file))
    }
    if (layout.into?.before === '') await addPlace(target, layout, repairJournal(entryFile))
    const plan = await putOf(target, await surveyDrive(target, sha256), layout)
    const outcome = await copy(
      source,
      async (pieces, options) => {
        return runPut(target, plan, pieces, {
          ...{ ...options, digest: blake3, sha256, tableJournal: repairJournal(tableFile), forgets: true },
          ...(journal ? { journal, from: journal.state } : {}),
        })
      },
      planInto,
    )
    note('all else on the drive is as it was: tables and both ends of every other partition', 'good')
    const started = await startFrom(target)
    await done(source, outcome, await fingerprintOf(target), started)
  } finally {
    await journal?.close()
  }
}

/** Changes what a start names where the target is to start beside others; undefined where nothing is to be changed. */
async function startFrom(target: BlockDevice): Promise<LetStarted | undefined> {
  const { starts, layout } = part
  if (!starts) return undefined
  const { systems, moved, time } = starts
  const files = starts.repairs.map(({ file }) => file)
  const wish = {
    ...{ scheme: layout.scheme, time, chance: () => randomBytes(16) },
    journalFor: async () => repairJournal(files.shift()!),
  }
  const { made, problem } = await (moved
    ? letStartBeside(target, { ...wish, systems, moved })
    : letStart(target, { ...wish, system: systems[0] }))
  const plain = made.map(({ name, title, changes, files: touched, know }) => ({
    ...{ name, title, changes, ...(touched ? { files: touched } : {}), ...(know ? { know } : {}) },
  }))
  return { made: plain, problem }
}

async function retry(source: BlockDevice, target: BlockDevice, task: CopyOrder['task'] & { kind: 'retry' }) {
  const { layout } = part
  const limits = { tries: order.choices.tries }
  const { wonBytes, lost } = layout.into
    ? await retryPut(target, layout, await planInto(source, layout, scopeOf(order.choices)), task.lost, limits)
    : await retryLost(await planCopy(source, layout, scopeOf(order.choices)), target, task.lost, limits)
  const samples = await samplesOf(source, lost)
  send({ type: 'retried', wonBytes, lost: [...lost], targetFingerprint: await fingerprintOf(target), samples })
}

/** Copies onto drives. */
async function copyOnto(targets: readonly BlockDevice[], source: BlockDevice): Promise<void> {
  // Of a system that runs nothing can be taken up: it has gone on meanwhile.
  const journal = running ? undefined : await openJournal(part.journal, { resume: order.resume !== undefined })
  try {
    const outcome = await copy(source, (plan, options) =>
      runCopy(plan, targets, { digest: blake3, ...options, ...(journal ? { journal, from: journal.state } : {}) }),
    )
    const started = await startFrom(targets[0])
    await done(source, outcome, await fingerprintOf(targets[0]), started)
  } finally {
    await journal?.close()
  }
}

/** Makes an image. */
async function copyInto(image: Extract<CopyOrder['source'], { kind: 'image' }>, source: BlockDevice): Promise<void> {
  const { folder, close } = await openFolder(image.folder, (drive) => new PullableDevice(drive, image.id))
  try {
    const { name, format: to } = image
    // What an attempt left that nobody goes on with.
    if (!order.resume) await folder.remove(unfinishedName(name))
    const outcome = await copy(source, (plan, options) =>
      writeImageInto(folder, name, plan, {
        to,
        time: Date.now(),
        overwrite: part.again === true,
        ...options,
        ...(running ? {} : { journal: part.journal, resume: order.resume !== undefined }),
        ...(part.made ? { record: { ...part.made, ...recorded() } } : {}),
      }),
    )
    const made = await openMedium(image)
    try {
      await done(source, outcome, await fingerprintOf(made.device))
    } finally {
      await made.close()
    }
  } finally {
    await close()
  }
}

/** What of the choices the record of an image tells. */
function recorded() {
  const { read, skipPageFiles } = order.choices
  const leaveOut: IdleKind[] = skipPageFiles ? ['page', 'hibernation'] : []
  return { read: read === 'every' ? ('every' as const) : ('used' as const), leaveOut }
}

type Copying = Omit<CopyOptions, 'digest' | 'journal' | 'from'>

async function copy(
  source: BlockDevice,
  run: (plan: CopyPlan, options: Copying) => Promise<CopyOutcome>,
  planned: typeof planCopy = planCopy,
): Promise<{ plan: CopyPlan; outcome: CopyOutcome }> {
  const trouble = new FailureCountingDevice(source)
  const plan = await planned(trouble, part.layout, scopeOf(order.choices))
  const titles = new Map(plan.partitions.map((p) => [p.number, p.title]))
  const { totalBytes } = plan
  const { verify } = order.choices
  meter = new CopyMeter(part.timing, { totalBytes, titles, verify, before: order.resume?.progress })
  if (order.resume) meter.mark('cut', 'cut off, and gone on')
  const reporter = makeReporter(meter)
  around.reads(part.heat)
  let pieceOf: number | undefined
  let counted = 0
  let rescueSeconds = 0
  /** What tries at bad sectors took since it was last asked. */
  const troubleSeconds = () => {
    const seconds = around.trouble(trouble.failures - counted)
    if (counted === 0 && trouble.failures > 0) {
      meter!.mark('trouble', 'the source does not read')
      note('the source does not read everywhere; what reads well goes first', 'bad')
    }
    counted = trouble.failures
    return seconds
  }
  const spend = async (seconds: number, phase: CopyPhase) => {
    reporter.passed(seconds)
    await around.pass(seconds, phase, (rest) => {
      note(`the source is at ${Math.round(rest.celsius)} °C and rests`, 'bad')
      meter!.mark('rest', `rests ${Math.round(rest.seconds / 60)} min to cool`)
      meter!.wait(rest.seconds)
      reporter.passed(rest.seconds)
    })
  }
  const minutes = order.choices.rescueMinutes
  const rescue: RescueLimits = {
    tries: order.choices.tries,
    goOn: async () => {
      checkpoint()
      const seconds = troubleSeconds()
      rescueSeconds += seconds
      meter!.wait(seconds, pieceOf)
      await spend(seconds, 'rescue')
      if (paused) await paused
      await reporter.maybeReport()
      return minutes === null || rescueSeconds < minutes * 60
    },
  }
  const outcome = await run(plan, {
    note: part.note,
    job: part.job,
    work: workDigest({ ...part, choices: order.choices }, sha256),
    verify,
    rescue,
    recheck: order.resume?.recheck,
    checkpoint,
    onStep: async (step) => {
      pieceOf = step.piece?.partition
      const more = troubleSeconds()
      const seconds = meter!.add(step, (modelled) => around.took(modelled)) + more
      if (step.before) around.restart()
      if (more > 0) meter!.wait(more, pieceOf)
      reporter.step(step.phase, pieceOf)
      if (!step.before) await spend(seconds, step.phase)
      if (paused) await paused
      await reporter.maybeReport()
    },
    onLetGo: (target, why) => {
      const { title } = part.targets[target]
      meter!.mark('let-go', `${title} let go`)
      note(`${title} is no longer written: ${why}`, 'bad')
    },
    onRewrite: (pieces) => {
      meter!.mark('rewritten', `${pieces} pieces written again`)
      note(`${pieces} ${pieces === 1 ? 'piece' : 'pieces'} read back differently, written again`, 'bad')
    },
  })
  reporter.report()
  return { plan, outcome }
}

/** Tells of a copy that came to its end. */
async function done(
  source: BlockDevice,
  { plan, outcome }: { plan: CopyPlan; outcome: CopyOutcome },
  targetFingerprint: string,
  started?: LetStarted,
): Promise<void> {
  const { seconds } = meter!
  const { events, partSeconds } = meter!.report()
  const samples = await samplesOf(source, outcome.lost)
  if (together && together.sharedBytes > 0) {
    const { sharedBytes, ownBytes } = together
    note(
      `read together with others: ${formatSize(sharedBytes)} of ${formatSize(sharedBytes + ownBytes)} were read by them`,
    )
  }
  send({
    type: 'done',
    samples,
    ...(started ? { started } : {}),
    summary: {
      copiedBytes: outcome.copiedBytes,
      writtenBytes: outcome.writtenBytes,
      checkedBytes: outcome.checkedBytes,
      digest: outcome.digest,
      digestName: BLAKE3,
      rewritten: outcome.rewritten,
      resumed: events.filter((e) => e.kind === 'cut').length,
      lost: [...outcome.lost],
      bufferBytes: outcome.bufferBytes,
      targetFingerprint,
      copySeconds: seconds.copy,
      checkSeconds: seconds.check,
      partitions: partsOf(plan, partSeconds),
      events,
      live: running ? await running.summary() : null,
      choices: order.choices,
      work: workDigest({ ...part, choices: order.choices }, sha256),
      further: part.targets.slice(1).map(({ id, title: name }, i) => ({
        id,
        name,
        why: outcome.letGo.get(i + 1) ?? null,
      })),
    },
  })
}

/** Digests of the old drive's files, taken while it is still attached. */
async function samplesOf(source: BlockDevice, lost: readonly Lost[]) {
  const { sampledBy, layout } = order
  if (!sampledBy) return null
  const onSource = lost.map(({ partition, files }) => ({
    sourcePartition: layout.partitions.find((p) => p.number === partition)?.sourceNumber ?? 0,
    files,
  }))
  const samples = await takeSamples(source, sampledBy, onSource, blake3)
  const files = samples.reduce((sum, volume) => sum + volume.files.length, 0)
  note(`digests of ${counted(files, 'file')} taken, for the comparison after the start`)
  return samples
}

function partsOf({ partitions }: CopyPlan, seconds: Readonly<Record<string, number>>) {
  return partitions.map((p) => ({ ...p, leftOut: [...p.leftOut], seconds: seconds[p.number] ?? 0 }))
}

/** A drive that fails from the moment it is taken out. */
class PullableDevice extends WrappedDevice {
  constructor(
    drive: BlockDevice,
    private readonly id: string,
  ) {
    super(drive)
    const { discard } = this
    if (discard) this.discard = async (offset, length) => (this.refuseGone(), discard(offset, length))
    const { digests } = drive
    if (digests)
      this.digests = { by: digests.by, of: async (offset, length) => (this.refuseGone(), digests.of(offset, length)) }
  }

  override async read(offset: number, into: Uint8Array): Promise<void> {
    this.refuseGone()
    await super.read(offset, into)
  }

  override async write(offset: number, from: Uint8Array): Promise<void> {
    this.refuseGone()
    await super.write(offset, from)
  }

  override async flush(): Promise<void> {
    this.refuseGone()
    await super.flush()
  }

  private refuseGone(): void {
    const what = gone.get(this.id)
    if (what !== undefined) throw new DeviceGone(what)
  }
}

/** The source, with the reads that failed counted. */
class FailureCountingDevice extends ReadOnlyWrapper {
  failures = 0

  override async read(offset: number, into: Uint8Array): Promise<void> {
    try {
      await super.read(offset, into)
    } catch (error) {
      if (error instanceof UnreadableSectors) this.failures++
      throw error
    }
  }
}

const PHASE_NOTES: Record<CopyPhase, string> = {
  erase: 'target marked as unfinished, erased',
  copy: 'copying',
  rescue: 'what reads well is copied; now around the trouble',
  check: 'all written; reading back',
  tables: 'partition tables written',
}

function makeReporter(meter: CopyMeter) {
  let last = 0
  let benchSeconds = 0
  let phase: CopyPhase | undefined
  let partition: number | undefined
  const report = () => {
    last = performance.now()
    send({ type: 'progress', progress: meter.report(), benchMilliseconds: benchSeconds * 1000 })
    benchSeconds = 0
  }
  return {
    report,
    passed(seconds: number) {
      benchSeconds += seconds
    },
    step(nextPhase: CopyPhase, nextPartition: number | undefined) {
      const changed = nextPhase !== phase
      if (changed) report()
      if (changed) note(PHASE_NOTES[nextPhase], nextPhase === 'tables' ? 'good' : 'plain')
      if (changed && nextPhase === 'check') meter.mark('read-back', 'reading back')
      if (nextPhase === 'copy' && nextPartition !== partition && nextPartition !== undefined) {
        partition = nextPartition
        const { partition: title } = meter.report()
        // The tables of an image are pieces of no partition.
        if (nextPartition === 0 && title === '') return
        note(nextPartition === 0 ? title : `copying partition ${nextPartition}, ${title}`)
      }
      phase = nextPhase
    },
    async maybeReport() {
      if (performance.now() - last < REPORT_EVERY_MS) return
      report()
      // Lets messages from the page in, which a copy as fast as it goes would keep waiting.
      await setImmediate()
    },
  }
}

/** What is on the target can be gone on with, as soon as what ended the copy is mended. */
const resumable = (error: unknown) => !part.live && !(error instanceof CheckFailed || error instanceof NotItsTarget)

// Pages go before bytes where both want a core. Only Linux counts the priority of a thread by itself.
if (process.platform === 'linux') setPriority(PRIORITY)
try {
  await work()
} catch (error) {
  if (error instanceof StoppedByPerson) send({ type: 'stopped' })
  else if (error instanceof DeviceGone || error instanceof HostFull) {
    send({ type: 'failed', message: error.message, resumable: !part.live })
  } else if (error instanceof CoreError) {
    send({
      type: 'failed',
      message: error.message,
      resumable: resumable(error),
      verifyFailed: error instanceof CheckFailed,
    })
  } else {
    log.error(error)
    send({
      type: 'failed',
      message:
        'The copy ended with an error of Imbarco’s own, which the server’s log tells. The source is untouched; the target is not to be used.',
      resumable: !part.live,
    })
  }
} finally {
  parentPort!.close()
}
