import { setImmediate } from 'node:timers/promises'
import { parentPort, workerData } from 'node:worker_threads'
import { openDrive } from '@/bench/open-drive'
import { DeviceGone } from '@/core/block/device'
import { planCopy } from '@/core/copy/plan'
import { type CopyPhase, runCopy } from '@/core/copy/run'
import { CoreError } from '@/core/errors'
import { fingerprintOf } from '@/core/survey/survey'
import { sha256 } from '../digest'
import { log } from '../log'
import type { CopyOrder, FromWorker, ToWorker } from './messages'
import { CopyMeter } from './meter'
import { Pacer } from './pacer'

/** Ends the copy because a person asked for it. */
class StoppedByPerson extends Error {}

const REPORT_EVERY_MS = 200
const order = workerData as CopyOrder
const send = (message: FromWorker) => parentPort!.postMessage(message)
const pacer = new Pacer(order.pace)
let ending: Error | undefined
let resumed: (() => void) | undefined
let paused: Promise<void> | undefined

parentPort!.on('message', (message: ToWorker) => {
  if (message.type === 'stop') ending ??= new StoppedByPerson()
  if (message.type === 'gone') ending ??= new DeviceGone(message.what)
  if (message.type === 'pace') pacer.set(message.pace)
  if (message.type === 'pause') paused ??= new Promise((resolve) => (resumed = resolve))
  if (message.type === 'resume' || ending) {
    resumed?.()
    paused = undefined
    pacer.restart()
  }
})

async function copy(): Promise<void> {
  const openedSource = await openDrive(order.source, { writable: false })
  const openedTarget = await openDrive(order.target, { writable: true })
  const [source, target] = [openedSource.device, openedTarget.device]
  try {
    // The last look before the first write: still the drives that were surveyed and confirmed?
    if ((await fingerprintOf(target)) !== order.targetFingerprint) {
      throw new CoreError('The target has changed since it was surveyed, so nothing was written to it.')
    }
    if ((await fingerprintOf(source)) !== order.sourceFingerprint) {
      throw new CoreError('The source has changed since it was surveyed, so nothing was written.')
    }
    const plan = await planCopy(source, order.layout)
    const meter = new CopyMeter(order.timing, plan.totalBytes, new Map(plan.partitions.map((p) => [p.number, p.title])))
    const reporter = makeReporter(meter)
    const outcome = await runCopy(plan, target, {
      digest: sha256,
      note: order.note,
      checkpoint: () => {
        if (ending) throw ending
      },
      onStep: async (step) => {
        const seconds = meter.add(step)
        reporter.step(step.phase, seconds, step.piece?.partition)
        await pacer.spend(seconds)
        if (paused) await paused
        await reporter.maybeReport()
      },
    })
    const { seconds } = meter
    reporter.report()
    send({
      type: 'done',
      summary: {
        copiedBytes: outcome.copiedBytes,
        writtenBytes: outcome.writtenBytes,
        checkedBytes: outcome.checkedBytes,
        digest: outcome.digest,
        lost: [...outcome.lost],
        bufferBytes: outcome.bufferBytes,
        targetFingerprint: await fingerprintOf(target),
        copySeconds: seconds.copy,
        checkSeconds: seconds.check,
        partitions: [...plan.partitions],
      },
    })
  } finally {
    await openedSource.close()
    await openedTarget.close()
  }
}

const PHASE_NOTES: Record<CopyPhase, string> = {
  erase: 'target marked as unfinished, erased',
  copy: 'copying used blocks',
  check: 'all written; reading back',
  tables: 'equal; partition tables written',
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
    step(nextPhase: CopyPhase, seconds: number, nextPartition: number | undefined) {
      benchSeconds += seconds
      const changed = nextPhase !== phase
      if (changed) report()
      if (changed) send({ type: 'note', text: PHASE_NOTES[nextPhase], tone: nextPhase === 'tables' ? 'good' : 'plain' })
      if (nextPhase === 'copy' && nextPartition !== partition && nextPartition !== undefined) {
        partition = nextPartition
        send({ type: 'note', text: `${nextPartition} ${meter.report().partition}`, tone: 'plain' })
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

try {
  await copy()
} catch (error) {
  if (error instanceof StoppedByPerson) send({ type: 'stopped' })
  else if (error instanceof CoreError) send({ type: 'failed', message: error.message })
  else {
    log.error(error)
    send({
      type: 'failed',
      message:
        'The copy ended with an error of Imbarco’s own, which the server’s log tells. The source is untouched; the target is not to be used.',
    })
  }
} finally {
  parentPort!.close()
}
