import { parentPort, workerData } from 'node:worker_threads'
import { openDrive } from '@/outside/open-drive'
import type { BlockDevice } from '@/core/block/device'
import { readOnly } from '@/core/block/readonly'
import { SliceDevice } from '@/core/block/slice'
import { CoreError } from '@/core/errors'
import { placeOfPartition } from '@/core/survey/open-partition'
import { blake3 } from '@/host/strong-digest'
import { keyOfCode } from '@/nbd/key'
import { Lender } from '@/nbd/lender'
import { log } from '../../ground/log'
import { withSubject } from '../../jobs/threads/tasks/subject'
import type { FromLender, LendOrder, ToLender } from './messages'

const { subject, exportName, description, host, port, code, writable, partition, once } = workerData as LendOrder
const send = (message: FromLender) => parentPort!.postMessage(message)
const TELL_EVERY_MS = 1000
/** Who waits for an answer, by address. */
const waiting = new Map<string, (yes: boolean) => void>()
let lender: Lender | undefined
let end = () => {}
const ended = new Promise<void>((done) => (end = done))

parentPort!.on('message', (message: ToLender) => {
  if (message.type === 'end') end()
  if (message.type === 'take back') lender?.takeBack(message.peer)
  if (message.type === 'answer') waiting.get(message.peer)?.(message.yes)
})

try {
  await withLent(async (device) => {
    lender = await Lender.listen(
      { name: exportName, description, device, writable, digest: blake3 },
      {
        host,
        port,
        key: keyOfCode(code),
        allow: ({ peer }) =>
          new Promise((answer) =>
            waiting.set(peer, (yes) => {
              waiting.delete(peer)
              answer(yes)
            }),
          ),
        onEvent: (event) => {
          send({ type: 'event', event })
          const isOver = once && event.type === 'ended' && event.done
          if (isOver && !lender!.borrowers.some((b) => b.state === 'has it')) end()
        },
      },
    )
    send({ type: 'listens', ...lender.address })
    let told = ''
    const timer = setInterval(() => {
      const borrowers = lender!.borrowers.filter((b) => b.state === 'has it')
      const now = JSON.stringify(borrowers)
      if (now !== told) send({ type: 'borrowers', borrowers })
      told = now
    }, TELL_EVERY_MS)
    await ended
    clearInterval(timer)
    await lender.close()
  })
} catch (error) {
  if (!(error instanceof CoreError)) log.error(error)
  const own = 'It ended with an error of Imbarco’s own, which the server’s log tells.'
  send({ type: 'failed', message: error instanceof CoreError ? error.message : own })
} finally {
  parentPort!.close()
}

/** The whole disk, or the one partition that is lent. */
async function partOf(device: BlockDevice): Promise<BlockDevice> {
  if (partition === null) return device
  const { start, size } = await placeOfPartition(device, partition)
  return new SliceDevice(device, start, size)
}

async function withLent(work: (device: BlockDevice) => Promise<void>): Promise<void> {
  if (!writable) return withSubject(subject, async (device) => work(readOnly(await partOf(device))))
  if (subject.kind !== 'drive') throw new CoreError('Only a drive is lent to be written.')
  const opened = await openDrive(subject.drive, { writable })
  try {
    await work(await partOf(opened.device))
    await opened.device.flush()
  } finally {
    await opened.close()
  }
}
