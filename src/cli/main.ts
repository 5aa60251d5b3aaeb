import { Command, CommanderError, InvalidArgumentError, Option } from 'commander'
import { CoreError } from '@/core/errors'
import { TARGET_KINDS } from '@/core/image'
import { NoPartition } from '@/core/survey/open-partition'
import { NoFile } from '@/host/errors'
import { cat, compare, convert, files, type Io, type Options, survey } from './commands'
import { WrongUse } from './open'

const WRONG_USE = 2
const STOPPED = 1

/** Writes to standard output, waiting where a pipe is slow; a reader that went away ends the program quietly. */
function print(text: string | Uint8Array): Promise<void> {
  return new Promise((resolve, reject) => process.stdout.write(text, (error) => (error ? reject(error) : resolve())))
}

const abort = new AbortController()
const io: Io = {
  print,
  say: (text) => {
    if (process.stderr.isTTY) process.stderr.write(`\r${text} `)
  },
  signal: abort.signal,
}

function number(text: string): number {
  if (!/^\d{1,5}$/.test(text)) throw new InvalidArgumentError('A partition is named by its number.')
  return Number(text)
}

let code = 0
const run = (work: Promise<number>) => work.then((result) => void (code = result))
const sectorSize = () =>
  new Option('--sector-size <bytes>', 'sectors of the drive, where the image does not tell')
    .choices(['512', '4096'])
    .argParser((text) => {
      if (text !== '512' && text !== '4096') throw new InvalidArgumentError('512 or 4096.')
      return Number(text)
    })
const json = () => new Option('--json', 'for programs; docs/cli.md describes it')

const program = new Command('imbarco')
  .description('Looks into drives and images, and turns images into others. Nothing that is read is ever written.')
  .showHelpAfterError()
  .exitOverride()

program
  .command('survey <file>')
  .description('what is on an image: table, partitions, file systems, systems, damage')
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

process.once('SIGINT', () => abort.abort(new CoreError('Stopped; nothing was left behind.')))
process.once('SIGTERM', () => abort.abort(new CoreError('Stopped; nothing was left behind.')))
process.stdout.on('error', (error: NodeJS.ErrnoException) => process.exit(error.code === 'EPIPE' ? 0 : STOPPED))

program
  .parseAsync()
  .catch((error: unknown) => {
    if (error instanceof CommanderError) {
      code = error.exitCode === 0 ? 0 : WRONG_USE
      return
    }
    if (!(error instanceof CoreError)) throw error
    process.stderr.write(`${error.message}\n`)
    code = [WrongUse, NoFile, NoPartition].some((kind) => error instanceof kind) ? WRONG_USE : STOPPED
  })
  .finally(() => (process.exitCode = code))
