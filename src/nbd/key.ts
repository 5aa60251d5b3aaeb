import { randomInt, scryptSync } from 'node:crypto'
import { readFile } from 'node:fs/promises'
import path from 'node:path'
import { CoreError } from '@/core/errors'

/** What both sides of a connection know: who asks, and the key that proves it. */
export interface SharedKey {
  readonly identity: string
  readonly key: Buffer
}

/**
 * Suites in which a shared key proves both sides and a fresh exchange hides what is said: who only listens can try no
 * key at it afterwards. Those of TLS 1.2; the newer version takes such keys from Node in no way that others speak.
 */
export const PSK_CIPHERS = [
  'DHE-PSK-AES128-GCM-SHA256',
  'DHE-PSK-AES256-GCM-SHA384',
  'ECDHE-PSK-CHACHA20-POLY1305',
  'DHE-PSK-CHACHA20-POLY1305',
  'ECDHE-PSK-AES256-CBC-SHA384',
  'ECDHE-PSK-AES128-CBC-SHA256',
].join(':')

/** Letters and digits that cannot be taken for each other when they are read out. */
const ALPHABET = '23456789ABCDEFGHJKMNPQRSTUVWXYZ'
/** Some 59 bits: more than can be tried while a drive is lent, few enough to be read out. */
const CODE_CHARACTERS = 12
const GROUP = 4

/** A new code, in groups: `7QKM-2XRT-94BD`. */
export function newCode(): string {
  const text = Array.from({ length: CODE_CHARACTERS }, () => ALPHABET[randomInt(ALPHABET.length)]).join('')
  return text.match(new RegExp(`.{${GROUP}}`, 'g'))!.join('-')
}

export const LENT_IDENTITY = 'imbarco'

/**
 * The key that a code makes; blanks, dashes and small letters are no matter. It takes a tenth of a second, so that
 * nobody tries many. Throws CoreError where it can be none.
 */
export function keyOfCode(code: string): SharedKey {
  const plain = code.toUpperCase().replace(/[\s-]/g, '')
  if (plain.length !== CODE_CHARACTERS || [...plain].some((c) => !ALPHABET.includes(c)))
    throw new CoreError(`A code has ${CODE_CHARACTERS} letters and digits, in groups of ${GROUP}.`)
  const key = scryptSync(plain, 'imbarco lends', 32, { N: 2 ** 15, r: 8, p: 1, maxmem: 64 * 1024 * 1024 })
  return { identity: LENT_IDENTITY, key }
}

/** Reads a key as other programs keep it: a line `identity:hex`. Throws CoreError. */
export function keyOfText(text: string): SharedKey {
  const [line] = text.split(/\r?\n/).filter((l) => l.trim() !== '' && !l.startsWith('#'))
  const found = /^([^:]{1,128}):((?:[0-9a-f]{2}){16,64})$/i.exec(line?.trim() ?? '')
  if (!found) throw new CoreError('The key has to be a line with a name, a colon and 32 to 128 hexadecimal digits.')
  return { identity: found[1], key: Buffer.from(found[2], 'hex') }
}

/** The key that a file holds so. Rejects with CoreError. */
export async function keyOfFile(file: string): Promise<SharedKey> {
  const text = await readFile(file, 'utf8').catch((error: NodeJS.ErrnoException) => {
    throw new CoreError(`The key cannot be read from ${path.basename(file)} (${error.code}).`)
  })
  return keyOfText(text)
}

export const textOfKey = ({ identity, key }: SharedKey) => `${identity}:${key.toString('hex')}\n`
