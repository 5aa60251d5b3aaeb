import { readFile, writeFile } from 'node:fs/promises'
import path from 'node:path'
import { readOnly } from '@/core/block/readonly'
import type { BlockDevice } from '@/core/block/device'
import { SliceDevice } from '@/core/block/slice'
import { formatSize } from '@/core/bytes/size'
import { placeOfPartition } from '@/core/survey/open-partition'
import { hostError } from '@/host/errors'
import type { HostImage } from '@/host/images'
import { RawFile } from '@/host/raw-file'
import { nbdUri } from '@/nbd/address'
import { blake3 } from '@/host/strong-digest'
import { keyOfCode, newCode, textOfKey } from '@/nbd/key'
import { type Borrower, Lender, type LenderEvent, type LentExport } from '@/nbd/lender'
import type { Io } from './commands'
import { openDeviceTarget } from './onto-device'
import { expectRaw, type Opening, withImage, WrongUse } from './open'

export interface LendOptions extends Pick<Opening, 'sectorSize'> {
  readonly bind: string
  readonly port: number
  readonly partition?: number
  readonly writable?: boolean
  /** Ends after the first that had it. */
  readonly once?: boolean
  /** Whoever has the key gets it, without a question. */
  readonly allow?: boolean
  /** Of a drive of this computer that is lent to be written over: the last four of its serial. */
  readonly plate?: string
  /** Where the key is written for other programs. */
  readonly pskFile?: string
  /** The code that it was lent by before, so that who had it goes on. */
  readonly code?: string
  readonly json?: boolean
}

/** Lends a disk to whoever has its code and gets a yes, until it is stopped. */
export async function lend(file: string, options: LendOptions, io: Io): Promise<number> {
  return withImage(
    file,
    { sectorSize: options.sectorSize },
    async (image) => {
      if (!options.writable) return lendFrom(file, image, undefined, options, io)
      const target = await targetOf(file, image, options, io)
      try {
        return await lendFrom(file, image, target, options, io)
      } finally {
        await target.close()
      }
    },
    // What is lent for writing changes.
    { checked: true },
  )
}

/** What is lent to be written over: a raw image whose name is typed, or a drive of this computer by its plate. */
async function targetOf(file: string, image: HostImage, options: LendOptions, io: Io) {
  if (image.deviceNumber === undefined) {
    const sectorSize = expectRaw(image).logicalSectorSize
    await expectPlate(file, options, io)
    return RawFile.open(file, sectorSize)
  }
  const asked = `Whoever borrows it can write over all of it. Type the last four characters on the drive to lend it:`
  const plate = options.plate ?? (await io.ask(asked))
  const { device, close } = await openDeviceTarget(file, { paths: [] }, { plate, overwrite: true })
  return Object.assign(device, { close })
}

/** What is lent as a target is named by whoever sits where it is; a wrong file is nobody's to write. */
async function expectPlate(file: string, { allow }: LendOptions, io: Io): Promise<void> {
  if (allow) return
  const name = path.basename(file)
  const said = await io.ask(`Whoever borrows it can write over all of it. Type the name of the file to lend it:`)
  if (said?.trim() !== name) throw new WrongUse(`That is not ${name}, so nothing is lent.`)
}

async function lendFrom(
  file: string,
  { device }: HostImage,
  target: BlockDevice | undefined,
  options: LendOptions,
  io: Io,
): Promise<number> {
  const whole = target ?? readOnly(device)
  const { partition } = options
  const place = partition === undefined ? undefined : await placeOfPartition(device, partition)
  const lent: LentExport = {
    name: exportNameOf(file, partition),
    description: `${path.basename(file)}${partition === undefined ? '' : `, partition ${partition}`}`.slice(0, 200),
    device: place ? new SliceDevice(whole, place.start, place.size) : whole,
    writable: target !== undefined,
    digest: blake3,
  }
  const code = options.code ?? newCode()
  const key = keyOfCode(code)
  if (options.pskFile !== undefined) await keepKey(options.pskFile, textOfKey(key))
  const tell = teller(options, io)
  let ended = () => {}
  const end = new Promise<void>((done) => (ended = done))
  const lender = await Lender.listen(lent, {
    host: options.bind,
    port: options.port,
    key,
    allow: async (borrower) => options.allow === true || saidYes(borrower, lent, io),
    onEvent: (event) => {
      void tell(event)
      if (options.once && event.type === 'ended' && event.done && !lender.borrowers.some(hasIt)) ended()
    },
  })
  const { host, port } = lender.address
  const uri = nbdUri({ tls: true, host, port, exportName: lent.name, identity: key.identity })
  await io.print(
    options.json
      ? line({
          event: 'lends',
          address: host,
          port,
          export: lent.name,
          uri,
          code,
          sizeBytes: lent.device.size,
          writable: lent.writable,
        })
      : `${lent.description}, ${formatSize(lent.device.size)}, is lent ${lent.writable ? 'for writing' : 'for reading'}.\n  Address  ${uri}\n  Code     ${code}\nUntil it is stopped with Ctrl+C.\n`,
  )
  io.signal.addEventListener('abort', ended, { once: true })
  if (io.signal.aborted) ended()
  await end
  await lender.close()
  await target?.flush()
  return 0
}

/** Nobody else may read it, and none that is there is replaced. */
async function keepKey(file: string, text: string): Promise<void> {
  await writeFile(file, text, { mode: 0o600, flag: 'wx' }).catch(async (error: unknown) => {
    if ((await readFile(file, 'utf8').catch(() => '')) === text) return
    throw hostError(error, `the file of the key, ${path.basename(file)}`)
  })
}

async function saidYes({ peer }: Borrower, { description, writable }: LentExport, io: Io): Promise<boolean> {
  const said = await io.ask(`${peer} has the code and asks for ${description}${writable ? ', to write it' : ''}. Yes?`)
  return /^y(es)?$/i.test(said?.trim() ?? '')
}

const hasIt = ({ state }: Borrower) => state === 'has it'

const line = (value: unknown) => `${JSON.stringify(value)}\n`

function teller({ json }: LendOptions, io: Io) {
  return (event: LenderEvent): Promise<void> => {
    if (json) {
      const { type, ...rest } = event
      return io.print(line({ event: type, ...rest }))
    }
    if (event.type === 'wrong key') return io.print(`${event.peer} has another code (${event.tries}).\n`)
    const { peer, readBytes, writtenBytes } = event.borrower
    if (!('why' in event)) return event.type === 'asks' ? Promise.resolve() : io.print(`${peer} has it.\n`)
    const moved = `${formatSize(readBytes)} read${writtenBytes > 0 ? `, ${formatSize(writtenBytes)} written` : ''}`
    return io.print(`${peer}: ${event.type}, ${moved}. ${event.why}\n`)
  }
}

/** A name that needs no quoting anywhere. */
function exportNameOf(file: string, partition: number | undefined): string {
  const plain = path
    .basename(file, path.extname(file))
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-|-$/g, '')
    .slice(0, 60)
  return `${plain || 'disk'}${partition === undefined ? '' : `-${partition}`}`
}
