import { type Emulator, findEmulator } from '@/host/emulator'
import { singleton } from '../ground/singleton'

/** The PC emulator of this host, looked for once; undefined where none is installed. */
export const emulatorHere = (): Promise<Emulator | undefined> => singleton('emulator', () => findEmulator())
