import { readFileSync, statSync, writeFileSync } from 'node:fs'
import path from 'node:path'
import { beforeEach, describe, expect, it } from 'vitest'
import { hostName, isLoopback, ownNames } from '@/server/access/names'
import { checkPassphrase, needsPassphrase, removePassphrase, setPassphrase } from '@/server/access/passphrase'
import { isSession, newSession } from '@/server/access/session'
import { dataFolder } from '@/server/ground/paths'
import { refusalCode, refused } from '@/server/ground/testing'

const file = path.join(dataFolder(), 'passphrase.json')

beforeEach(removePassphrase)

describe('a passphrase', () => {
  it('opens a session, which ends when another one is set', async () => {
    expect(needsPassphrase()).toBe(false)
    expect(await isSession('anything')).toBe(false)
    await setPassphrase('a lantern on the quay')
    expect(needsPassphrase()).toBe(true)
    await checkPassphrase('a lantern on the quay')
    const session = await newSession()
    expect(await isSession(session)).toBe(true)
    const [head, body, mark] = session.split('.')
    for (const forged of ['', session.slice(0, -2), `${head}.${body}.`, `${head}.${body}x.${mark}`, 'x'.repeat(5000)])
      expect(await isSession(forged), forged).toBe(false)
    const none = `${Buffer.from('{"alg":"none"}').toString('base64url')}.${body}.`
    expect(await isSession(none)).toBe(false)
    await setPassphrase('another lantern, another quay')
    expect(await isSession(session)).toBe(false)
  })

  it('is kept as a hash that only its owner reads', async () => {
    await setPassphrase('a lantern on the quay')
    expect(readFileSync(file, 'utf8')).not.toMatch(/lantern/)
    expect(statSync(file).mode & 0o077).toBe(0)
  })

  it('is refused where it is short, and lets nobody in where its file is damaged', async () => {
    expect(await refused(setPassphrase('short'))).toMatch(/12 to 200 characters/)
    expect(needsPassphrase()).toBe(false)
    await setPassphrase('a lantern on the quay')
    writeFileSync(file, '{}')
    expect(needsPassphrase()).toBe(true)
    expect(await refusalCode(checkPassphrase('a lantern on the quay'))).toBe('passphrase-unreadable')
    expect(await isSession('x')).toBe(false)
  })

  it('is tried ten times a minute by all together', async () => {
    await setPassphrase('a lantern on the quay')
    const tries = await Promise.all(Array.from({ length: 12 }, () => refused(checkPassphrase('wrong'))))
    expect(tries.some((sentence) => /Too many/.test(sentence))).toBe(true)
    expect(await refusalCode(checkPassphrase('a lantern on the quay'))).toBe('passphrase-tries')
  })
})

describe('names of a server', () => {
  it.each([
    ['127.0.0.1:4310', true],
    ['LOCALHOST', true],
    ['[::1]:80', true],
    ['127.1.2.3', true],
    ['127.0.0.1.example', false],
    ['10.0.0.5', false],
    ['0.0.0.0', false],
  ])('%s is this machine alone: %s', (host, isAlone) => expect(isLoopback(host)).toBe(isAlone))

  it('are compared without port, case and blanks', () => {
    expect([' Bench.Local:4310 ', '[FE80::1]:80', 'bench'].map(hostName)).toEqual(['bench.local', '[fe80::1]', 'bench'])
    const names = ownNames('192.168.7.2', ['Bench.local '])
    for (const name of ['192.168.7.2', 'bench.local', '[::1]', 'localhost']) expect(names.has(name), name).toBe(true)
    expect(names.has('192.168.7.3')).toBe(false)
    expect(ownNames('::').size).toBeGreaterThan(3)
  })
})
