import { type ChildProcess, spawn } from 'node:child_process'
import { constants, existsSync } from 'node:fs'
import { access, copyFile, mkdtemp, readFile, rm } from 'node:fs/promises'
import { createConnection, type Socket } from 'node:net'
import { freemem, tmpdir } from 'node:os'
import path from 'node:path'
import { setTimeout as pause } from 'node:timers/promises'
import { stripVTControlCharacters } from 'node:util'
import * as z from 'zod'
import { MIB } from '@/core/bytes/size'
import { CoreError } from '@/core/errors'
import type { SeenDevice } from '@/core/things/drive'
import { KernelDevice } from './devices/device-file'

// A PC emulator of the distribution, where one is installed: a disk is started in it over an overlay, without network. It is
// steered by its own protocol (QMP), a line of JSON each way.

const PROGRAM = 'qemu-system-x86_64'
/** Of the essential packages: ends what it starts with whoever started it. */
const TIED = '/usr/bin/setpriv'
/** Firmware by UEFI with the store of its variables, as Debian packages it. */
const UEFI = [
  ['/usr/share/OVMF/OVMF_CODE_4M.fd', '/usr/share/OVMF/OVMF_VARS_4M.fd'],
  ['/usr/share/OVMF/OVMF_CODE.fd', '/usr/share/OVMF/OVMF_VARS.fd'],
] as const

export interface Emulator {
  readonly program: string
  /** What runs the code of a guest, the first of these that there is. */
  readonly by: readonly ('kvm' | 'tcg')[]
  /** Firmware by UEFI; absent where only that by BIOS is there. */
  readonly uefi?: { readonly code: string; readonly variables: string }
}

/** The emulator of this computer; undefined where none is installed. */
export async function findEmulator(): Promise<Emulator | undefined> {
  for (const folder of (process.env.PATH ?? '').split(path.delimiter)) {
    const program = path.join(folder, PROGRAM)
    const isThere = await access(program, constants.X_OK).then(
      () => true,
      () => false,
    )
    if (!isThere) continue
    const uefi = UEFI.find((files) => files.every((file) => existsSync(file)))
    return {
      program,
      by: (await isVirtual()) ? ['tcg'] : ['kvm', 'tcg'],
      ...(uefi ? { uefi: { code: uefi[0], variables: uefi[1] } } : {}),
    }
  }
  return undefined
}

/** A processor that is lent by another one's emulation is seldom one that guests of its own come up on. */
async function isVirtual(): Promise<boolean> {
  return /^flags\b.*\bhypervisor\b/m.test(await readFile('/proc/cpuinfo', 'utf8').catch(() => ''))
}

export interface EmulatedOrder {
  /** A file or a device of this computer, and what it is read as. It is only read. */
  readonly disk: {
    readonly file: string
    readonly format: 'raw' | 'vpc' | 'vhdx' | 'qcow2' | 'vmdk'
    /** Which device of this computer it is, whatever its path leads to by now. */
    readonly seen?: SeenDevice
  }
  readonly firmware: 'uefi' | 'bios'
  readonly controller: 'sata' | 'nvme'
  readonly logicalSectorSize: 512 | 4096
}

/** Of its memory a guest gets this much at most, and never more than half of what is free here. */
const MOST_MIB = 2048
const LEAST_MIB = 256
/** It answers within this time, or it is not there any more. */
const PATIENCE_MS = 15_000
const TAIL_BYTES = 4000

const Reply = z.object({ return: z.unknown().optional(), error: z.object({ desc: z.string() }).optional() })

/** A computer in the emulator, with one disk. */
export class EmulatedComputer {
  /** Resolves with what it said when it has ended by itself, or was ended. */
  readonly ended: Promise<string>

  private constructor(
    private readonly process: ChildProcess,
    private readonly folder: string,
    private readonly control: Control,
    private readonly held: KernelDevice | undefined,
  ) {
    let said = ''
    process.stderr?.on('data', (chunk: Buffer) => (said = (said + chunk.toString()).slice(-TAIL_BYTES)))
    this.ended = new Promise((resolve) => process.once('exit', () => resolve(said.trim())))
  }

  /** Starts one. Rejects with CoreError where it does not come up, with what it says. */
  static async start(emulator: Emulator, order: EmulatedOrder): Promise<EmulatedComputer> {
    // Paths of sockets are short.
    const folder = await mkdtemp(path.join(tmpdir(), 'imbarco-emulated-'))
    let held: KernelDevice | undefined
    try {
      const { file, seen } = order.disk
      // Held open here, it is the drive that was seen, and its number is no other's.
      if (seen) held = await KernelDevice.open(file, seen)
      if (order.firmware === 'uefi' && !emulator.uefi)
        throw new CoreError('The emulator here has no firmware by UEFI. It is in the package ovmf.')
      if (emulator.uefi) await copyFile(emulator.uefi.variables, path.join(folder, 'variables.fd'))
      // Its overlay goes where the folder is, and is gone with it.
      const words = [emulator.program, ...wordsFor(emulator, { ...order, file: held?.pathToSame ?? file }, folder)]
      // It goes when this process goes, however that ends.
      if (existsSync(TIED)) words.unshift(TIED, '--pdeathsig', 'KILL', '--')
      const child = spawn(words[0], words.slice(1), {
        env: { ...process.env, TMPDIR: folder },
        stdio: ['ignore', 'ignore', 'pipe'],
      })
      const control = await Control.open(path.join(folder, 'control'), child)
      return new EmulatedComputer(child, folder, control, held)
    } catch (error) {
      await held?.close()
      await rm(folder, { recursive: true, force: true })
      throw error
    }
  }

  /** What its screen shows now, as PNG. */
  async screen(): Promise<Uint8Array> {
    const file = path.join(this.folder, 'screen.png')
    await this.control.ask('screendump', { filename: file, format: 'png' })
    return readFile(file)
  }

  /** What it last said on its serial line. */
  async serial(): Promise<string> {
    const bytes = await readFile(path.join(this.folder, 'serial')).catch(() => Buffer.alloc(0))
    // Firmware places its words by sequences of a terminal, some of which only old ones knew.
    return stripVTControlCharacters(bytes.subarray(-TAIL_BYTES).toString('latin1')).replace(/\x1b\[=\d+h/g, '')
  }

  /** Ends it, as a power cut would, and takes away all that it wrote. */
  async stop(): Promise<void> {
    if (this.process.exitCode === null && this.process.signalCode === null) {
      this.process.kill('SIGKILL')
      await this.ended
    }
    this.control.close()
    await this.held?.close()
    await rm(this.folder, { recursive: true, force: true })
  }
}

function wordsFor({ uefi, by }: Emulator, order: EmulatedOrder & { file: string }, folder: string): string[] {
  const { disk, file, firmware, controller, logicalSectorSize } = order
  // A comma in a value of the emulator's is written twice.
  const plain = (file: string) => file.replaceAll(',', ',,')
  const mib = Math.max(LEAST_MIB, Math.min(MOST_MIB, Math.floor(freemem() / MIB / 2)))
  const sectors = `logical_block_size=${logicalSectorSize},physical_block_size=4096`
  const flash = (unit: number, file: string, more: string) => [
    '-drive',
    `if=pflash,unit=${unit},format=raw,file=${plain(file)}${more}`,
  ]
  return [
    ...['-nodefaults', '-no-user-config', '-machine', 'q35', ...by.flatMap((one) => ['-accel', one]), '-cpu', 'max'],
    ...['-m', String(mib), '-smp', '2', '-vga', 'std', '-display', 'none', '-nic', 'none'],
    ...['-sandbox', 'on,obsolete=deny,elevateprivileges=deny,spawn=deny,resourcecontrol=deny'],
    ...['-serial', `file:${plain(path.join(folder, 'serial'))}`],
    ...['-qmp', `unix:${plain(path.join(folder, 'control'))},server=on,wait=off`],
    ...(firmware === 'uefi' && uefi
      ? [...flash(0, uefi.code, ',readonly=on'), ...flash(1, path.join(folder, 'variables.fd'), '')]
      : []),
    // What is written goes into an overlay; the disk below is opened for reading only.
    ...['-drive', `if=none,id=disk,snapshot=on,format=${disk.format},file=${plain(file)}`],
    '-device',
    controller === 'nvme'
      ? `nvme,drive=disk,serial=emulated,bootindex=1,${sectors}`
      : `ide-hd,bus=ide.0,drive=disk,bootindex=1,${sectors}`,
  ]
}

/** The line by which the emulator is steered: one command after the other. */
class Control {
  private buffer = ''
  private waiting: ((reply: z.infer<typeof Reply>) => void)[] = []
  private turn: Promise<unknown> = Promise.resolve()

  private constructor(private readonly socket: Socket) {
    socket.on('data', (chunk) => this.take(chunk.toString()))
    socket.on('error', () => {})
    socket.on('close', () => this.refuseAll())
  }

  static async open(file: string, child: ChildProcess): Promise<Control> {
    let said = ''
    child.stderr?.on('data', (chunk: Buffer) => (said += chunk.toString()))
    child.once('error', (error) => (said += error.message))
    const until = performance.now() + PATIENCE_MS
    while (performance.now() < until && child.exitCode === null && child.signalCode === null) {
      const socket = await connected(file)
      if (socket) {
        const control = new Control(socket)
        // It listens before it opens its disk, and is gone again where it cannot.
        const isUp = await control.ask('qmp_capabilities', {}).then(
          () => true,
          () => false,
        )
        if (isUp) return control
        control.close()
      }
      await pause(50)
    }
    child.kill('SIGKILL')
    throw new CoreError(`The emulator does not start${said ? `: ${said.trim().split('\n').at(-1)}` : '.'}`)
  }

  /** Asks for something and waits for its answer. Rejects with CoreError. */
  ask(execute: string, words: object): Promise<void> {
    const asked = this.turn.then(async () => {
      const reply = await new Promise<z.infer<typeof Reply>>((done) => {
        // What it says later would be taken for the answer to something else.
        const late = setTimeout(() => this.socket.destroy(), PATIENCE_MS)
        this.waiting.push((answer) => {
          clearTimeout(late)
          done(answer)
        })
        if (this.socket.destroyed) this.refuseAll()
        else this.socket.write(`${JSON.stringify({ execute, arguments: words })}\n`)
      })
      if (reply.error) throw new CoreError(`The emulator refuses that: ${reply.error.desc}.`)
    })
    this.turn = asked.catch(() => {})
    return asked
  }

  close(): void {
    this.socket.destroy()
  }

  private refuseAll(): void {
    for (const done of this.waiting.splice(0)) done({ error: { desc: 'it has ended, or does not answer' } })
  }

  private take(text: string): void {
    this.buffer += text
    for (let end = this.buffer.indexOf('\n'); end >= 0; end = this.buffer.indexOf('\n')) {
      const line = this.buffer.slice(0, end)
      this.buffer = this.buffer.slice(end + 1)
      const reply = Reply.safeParse(JSON.parse(line)).data
      // What it tells by itself, its greeting and events, answers nothing.
      if (reply && ('return' in reply || reply.error)) this.waiting.shift()?.(reply)
    }
  }
}

function connected(file: string): Promise<Socket | undefined> {
  return new Promise((resolve) => {
    const socket = createConnection(file)
    socket.once('connect', () => resolve(socket))
    socket.once('error', () => resolve(undefined))
  })
}
