import { Command, CommanderError, InvalidArgumentError, Option } from 'commander'
import { CoreError } from '@/core/errors'
import { IDLE_KINDS, type IdleKind } from '@/core/copy/idle-kinds'
import { TARGET_KINDS } from '@/core/image'
import { REPAIRS } from '@/core/repair'
import { NoPartition } from '@/core/survey/open-partition'
import { NoFile } from '@/host/errors'
import { DEFAULT_PORT } from '@/nbd/address'
import { repair, type RepairOptions, trace, type TraceOptions } from './boot'
import { cat, compare, convert, files, type Io, type Options, survey } from './commands'
import { copy, type CopyOptions } from './copy'
import { capture, type CaptureOptions, compact, restore, type RestoreOptions, verify } from './store'
import { fit, type FitOptions, sizeOf } from './fit'
import { label, type LabelOptions } from './label'
import { computer } from './computer'
import { serve, type ServeOptions } from './serve'
import { drives, type DrivesOptions } from './drives'
import { lend, type LendOptions } from './lend'
import { WrongUse } from './open'
import { shrink, type ShrinkOptions } from './shrink'
import { DISK_FORMAT_NAMES, vm, type VmOptions } from './vm'

/** The command was not understood, or names what is not there. */
export const WRONG_USE = 2
/** It could not be carried out, or was stopped. */
export const STOPPED = 1

/** Takes the work of a command, whose end becomes that of the program. */
type Run = (work: Promise<number>) => Promise<void>

/** Carries out one command line, without the name of the program. Resolves with the code that the process ends with. */
export async function runCommand(args: readonly string[], io: Io): Promise<number> {
  let code = 0
  const run: Run = (work) => work.then((result) => void (code = result))
  const program = new Command('imbarco')
    .description(
      'Looks into drives and images, and turns images into others. What is read is never written; `repair`, `label` and `shrink` alone change an image or drive in its place.',
    )
    .configureOutput({ writeOut: (text) => void io.print(text), writeErr: (text) => io.warn(text.replace(/\n$/, '')) })
    .showHelpAfterError()
    .exitOverride()
  addLooking(program, io, run)
  addCopying(program, io, run)
  addStarting(program, io, run)
  for (const command of program.commands) command.addOption(pskFile()).addOption(pairingCode())
  addDrives(program, io, run)
  addLending(program, io, run)
  try {
    await program.parseAsync(args, { from: 'user' })
    return code
  } catch (error) {
    if (error instanceof CommanderError) return error.exitCode === 0 ? 0 : WRONG_USE
    if (!(error instanceof CoreError)) {
      // What nobody foresaw is told in one line; the rest of it is for whoever looks for its cause.
      io.warn(`Imbarco failed: ${error instanceof Error ? error.message : String(error)}`)
      if (process.env.IMBARCO_DEBUG && error instanceof Error) io.warn(error.stack ?? '')
      return STOPPED
    }
    io.warn(error.message)
    return [WrongUse, NoFile, NoPartition].some((kind) => error instanceof kind) ? WRONG_USE : STOPPED
  }
}

/** What is on an image, and others made of it as it is. */
function addLooking(program: Command, io: Io, run: Run): void {
  program
    .command('survey <file>')
    .description('what is on an image: table, partitions, file systems, systems, damage')
    .option('--check-map', 'holds maps of used blocks against the files, record by record')
    .addOption(sectorSize())
    .addOption(json())
    .action((file: string, options: Options) => run(survey(file, options, io)))
  program
    .command('files')
    .argument('<file>')
    .argument('<partition>', 'its number; 0 is a file system without a table', number)
    .argument('[directory]')
    .description('the files in a folder of a partition')
    .addOption(sectorSize())
    .addOption(json())
    .action((file: string, partition: number, directory: string | undefined, options: Options) =>
      run(files(file, partition, directory ?? '/', options, io)),
    )
  program
    .command('cat')
    .argument('<file>')
    .argument('<partition>', 'its number; 0 is a file system without a table', number)
    .argument('<path>')
    .description('the bytes of a file')
    .addOption(sectorSize())
    .action((file: string, partition: number, name: string, options: Options) =>
      run(cat(file, partition, name, options, io)),
    )
  program
    .command('convert <in> <out>')
    .description('writes an image anew; the format follows from the name of the new one')
    .addOption(new Option('--to <format>', 'format of the new image').choices(TARGET_KINDS))
    .addOption(sectorSize())
    .addOption(json())
    .action((input: string, output: string, options: Options) => run(convert(input, output, options, io)))
  program
    .command('compare <a> <b>')
    .description('whether two images hold the same disk, and if not, where they differ')
    .addOption(sectorSize())
    .addOption(json())
    .action((a: string, b: string, options: Options) => run(compare(a, b, options, io)))
}

/** Drives of this computer. */
function addDrives(program: Command, io: Io, run: Run): void {
  program
    .command('drives')
    .description('the drives of this computer, each with what names it and what uses it')
    .option('--loops', 'loop devices, too')
    .addOption(json())
    .action((options: DrivesOptions) => run(drives(options, io)))
  program
    .command('computer')
    .description('what this computer is, and what its firmware starts')
    .addOption(json())
    .action((options: { json?: boolean }) => run(computer(options, io)))
  program
    .command('serve')
    .description('the pages, of the bench in the data folder or of the drives of this computer')
    .option('--devices', 'the drives of this computer, in a data folder of their own')
    .option('--loops', 'loop devices, too')
    .option('--port <number>', 'where it listens; 4310 without')
    .action((options: ServeOptions) => run(serve(options)))
}

/** A disk for other programs, over the network. */
function addLending(program: Command, io: Io, run: Run): void {
  program
    .command('lend <file>')
    .description('lends a disk over the network to whoever has its code and gets a yes; for reading, or as a target')
    .option('--bind <address>', 'the address of this computer that is listened at', '127.0.0.1')
    .option('--port <number>', 'its port; 0 takes one that is free', portNumber, DEFAULT_PORT)
    .option('--partition <number>', 'this partition alone', number)
    .option('--writable', 'may be written over; of a raw image or a drive’s own file')
    .option('--once', 'ends after the first that had it')
    .option('--plate <characters>', 'with --writable, of a drive of this computer: the last four of its serial')
    .option('--allow', 'whoever has the code gets it, without a question')
    .option('--psk-file <file>', 'writes the key into a new file, for other programs')
    .option('--code <code>', 'the code that it was lent by before, so that who had it goes on')
    .addOption(sectorSize())
    .addOption(json())
    .action((file: string, options: LendOptions) => run(lend(file, options, io)))
}

/** Where everything goes on another drive, and what writes it there. */
function addCopying(program: Command, io: Io, run: Run): void {
  withFit(program.command('fit <file>'))
    .description('where everything would go on a drive of another size, or why it cannot')
    .addOption(sectorSize('sectors of the target, where they are others'))
    .addOption(json())
    .action((file: string, options: FitOptions & { sectorSize?: 512 | 4096 }) =>
      run(fit(file, { ...options, targetSectorSize: options.sectorSize }, io)),
    )
  withCopy(program.command('copy <source> <target>'))
    .description('an image onto a new one of any size, volumes made larger or smaller with it; read back and compared')
    .action((source: string, target: string, options: CopyOptions) => run(copy(source, target, options, io)))

  withStore(program.command('capture <source> <image>'))
    .description('an image of what is in use on a drive, with a record beside it that proves it at any time')
    .option('--volumes <numbers>', 'these partitions alone', (text) => text.split(',').map(number))
    .action((source: string, image: string, options: CaptureOptions) => run(capture(source, image, options, io)))
  withStore(program.command('compact <in> <out>'))
    .description('a virtual disk anew, without what its systems have freed and zeros that take room')
    .action((input: string, output: string, options: CaptureOptions) => run(compact(input, output, options, io)))
  withCopy(program.command('restore <image> <target>'))
    .description('an image back onto a drive of any size, or one volume of it into a partition of a drive in use')
    .option('--check', 'holds the image against its record before anything is written')
    .option('--volumes <numbers>', 'the volume that goes into a partition', (text) => text.split(',').map(number))
    .option('--into <number>', 'the prepared partition of the target; all else on it stays', number)
    .option('--into-free', 'a new partition in unallocated space of the target; all else on it stays')
    .option(
      '--shrink-neighbour <number>',
      'the partition that gives what is missing of room, made smaller in its place',
      number,
    )
    .option('--entry', 'its system gets an entry in the boot settings of the target, beside those that are there')
    .option('--replace', 'that partition may hold files, which are lost')
    .addOption(journals())
    .option('--dry-run', 'says what would be written, and writes nothing')
    .action((image: string, target: string, options: RestoreOptions) => run(restore(image, target, options, io)))
  program
    .command('shrink')
    .argument('<file>', 'a raw image, or a drive of this computer')
    .argument('<partition>', 'its number', number)
    .argument('[size]', 'bytes that it gets, or such as 200GiB', (text: string) => sizeOf(text))
    .description('a volume smaller where it lies, with nothing else on the drive touched; taken back by --undo')
    .option('--undo', 'takes the last one back')
    .option('--dry-run', 'says what would be written, and writes nothing')
    .addOption(plate())
    .addOption(journals())
    .addOption(sectorSize())
    .addOption(json())
    .action((file: string, partition: number, size: number | undefined, options: ShrinkOptions) =>
      run(shrink(file, partition, size, options, io)),
    )
  program
    .command('vm <sources...>')
    .description('the drives of one computer as a virtual machine: a package with descriptor, manifest and disks')
    .requiredOption('--out <name>', 'a new folder, or one file where the name ends in .ova')
    .option('--memory <bytes>', 'memory of the machine, such as 8GiB', (text) => sizeOf(text))
    .option('--processors <count>', 'processors of the machine', (text) => {
      if (!/^\d{1,3}$/.test(text) || Number(text) === 0) throw new InvalidArgumentError('1 to 999.')
      return Number(text)
    })
    .option('--name <name>', 'what the machine is called')
    .addOption(new Option('--format <format>', 'format of the disks').choices(DISK_FORMAT_NAMES))
    .addOption(sectorSize())
    .addOption(json())
    .action((sources: string[], options: VmOptions) => run(vm(sources, options, io)))
  program
    .command('verify <image>')
    .description('whether an image is still what its record says')
    .addOption(json())
    .action((image: string, options: Options) => run(verify(image, options, io)))
}

/** How a computer starts from an image, and what is changed for that. */
function addStarting(program: Command, io: Io, run: Run): void {
  program
    .command('trace <file>')
    .description('follows the start of a computer with this drive in it, link by link; says where it ends and why')
    .addOption(firmware().makeOptionMandatory())
    .option('--system <number>', 'the partition of the system that is chosen, where there are several', number)
    .addOption(driver())
    .addOption(sectorSize())
    .addOption(json())
    .action((file: string, options: TraceOptions) => run(trace(file, options, io)))
  program
    .command('repair <file> <name>')
    .description('changes what keeps a raw image or drive from starting: ' + REPAIRS.map((r) => r.name).join(', '))
    .option('--dry-run', 'says what would be changed, and writes nothing')
    .option('--system <number>', 'the partition of the system that is meant, where there are several', number)
    .option(
      '--driver-folder <folder>',
      'where bring-driver and bring-network-driver find it, beside its setup information file',
    )
    .option('--device-id <id>', 'what the controller or network card says that it is: PCI\\VEN_1F5C&DEV_09A1')
    .addOption(plate())
    .addOption(journals())
    .addOption(firmware())
    .addOption(driver())
    .addOption(sectorSize())
    .addOption(json())
    .action((file: string, name: string, options: RepairOptions) => run(repair(file, name, options, io)))

  program
    .command('label <file> <partition> <text>')
    .description('gives a volume of a raw image or drive another label; an empty text takes it away')
    .option('--dry-run', 'says what would be changed, and writes nothing')
    .addOption(plate())
    .addOption(journals())
    .addOption(sectorSize())
    .addOption(json())
    .action((file: string, partition: string, text: string, options: LabelOptions) =>
      run(label(file, number(partition), text, options, io)),
    )
}

function portNumber(text: string): number {
  if (!/^\d{1,5}$/.test(text) || Number(text) > 65_535) throw new InvalidArgumentError('0 to 65535.')
  return Number(text)
}

function number(text: string): number {
  if (!/^\d{1,5}$/.test(text)) throw new InvalidArgumentError('A partition is named by its number.')
  return Number(text)
}

const sectorSize = (what = 'sectors of the drive, where the image does not tell') =>
  new Option('--sector-size <bytes>', what).choices(['512', '4096']).argParser((text) => {
    if (text !== '512' && text !== '4096') throw new InvalidArgumentError('512 or 4096.')
    return Number(text)
  })
const plate = () =>
  new Option('--plate <characters>', 'of a drive of this computer that is written: the last four of its serial')
const journals = () =>
  new Option('--journals <folder>', 'of a drive of this computer: where what stood on it before is kept')
const json = () => new Option('--json', 'for programs; docs/cli.md describes it')

/** Options that say where everything goes on the target. */
function withFit(command: Command): Command {
  const collect = (text: string, before: string[] = []) => [...before, text]
  const numbers = (text: string) => text.split(',').map(number)
  return command
    .option('--target-size <bytes>', 'bytes of the target, or such as 256GB or 100GiB', (text) => sizeOf(text))
    .option('--rule <rule>', 'a partition and keep, fill, share, least or a size: 3=fill, 2=350GiB', collect)
    .option('--reserve <percent>', 'share of the target that stays unallocated', (text) => {
      if (!/^\d{1,2}$/.test(text) || Number(text) > 50) throw new InvalidArgumentError('0 to 50.')
      return Number(text) / 100
    })
    .option('--order <numbers>', 'partitions in the order in which they are to stand: 1,3,2', numbers)
    .option('--label <label>', 'a partition and what its volume is called on the target: 3=Harbour', collect)
    .option('--leave-out <numbers>', 'partitions that do not come along', numbers)
    .option('--align <bytes>', 'every start is a multiple of it; 1 MiB where nothing is said', (text) => sizeOf(text))
    .addOption(new Option('--scheme <table>', 'the kind of table, where it is to be another').choices(['gpt', 'mbr']))
    .addOption(new Option('--new-identity <of>', 'new identities for the disk, or all on it').choices(['disk', 'all']))
}

/** Options of commands that lay a disk out anew and write it. */
function withCopy(command: Command): Command {
  return withFit(command)
    .option('--every-sector', 'all of it as it is, used or not')
    .option('--every-of <numbers>', 'every sector of these partitions, used blocks of the others', (text) =>
      text.split(',').map(number),
    )
    .option('--skip-page-files', 'page, hibernation and swap files keep their length and read as zeros')
    .option('--no-check-map', 'maps of used blocks are believed and not held against the files')
    .option('--overwrite', 'a target that is there already is replaced')
    .addOption(plate())
    .option('--no-verify', 'what was written is not read back')
    .option('--journal <file>', 'keeps in it what is sure, so that the copy can be gone on with after a cut')
    .option('--resume', 'resumes the copy of that journal')
    .option('--recheck-all', 'with --resume, compares every piece that was copied before, not a sample of them')
    .option('--lost-list <file>', 'saves what could not be read; with --resume, reads what it lists once more')
    .addOption(new Option('--to <format>', 'format of the target').choices(TARGET_KINDS))
    .addOption(sectorSize())
    .addOption(json())
}
const leaveOut = () =>
  new Option(
    '--leave-out <kinds>',
    'files whose content does not come along: pagefile, hibernation, temporary',
  ).argParser((text: string): IdleKind[] =>
    text.split(',').map((word) => {
      const kind = IDLE_KINDS.find((one) => one === (word === 'pagefile' ? 'page' : word))
      if (!kind) throw new InvalidArgumentError('pagefile, hibernation, temporary.')
      return kind
    }),
  )
/** Options of commands that make an image which is kept. */
function withStore(command: Command): Command {
  return command
    .addOption(leaveOut())
    .option('--overwrite', 'an image that is there already is replaced, once the new one is whole')
    .option('--no-verify', 'what was written is not read back')
    .option('--journal <file>', 'keeps in it what is sure, so that it can be gone on with after a cut')
    .option('--resume', 'resumes the copy of that journal')
    .addOption(new Option('--to <format>', 'format of the image').choices(TARGET_KINDS))
    .addOption(sectorSize())
    .addOption(json())
}
const pskFile = () => new Option('--psk-file <file>', 'the key of what is lent at an address nbds://…')
const pairingCode = () => new Option('--code <code>', 'the code of what is lent there, which makes its key')
const firmware = () => new Option('--firmware <kind>', 'what the computer starts by').choices(['uefi', 'bios'])
const driver = () =>
  new Option('--driver <service>', 'the driver of the controller that the drive will sit at, by its service name')
