// npm run passphrase: sets what opens the bench from the network; with --remove it is taken away.
import { createInterface } from 'node:readline/promises'
import { Writable } from 'node:stream'
import { removePassphrase, setPassphrase } from '@/server/access/passphrase'

// Only this user reads what is written here.
process.umask(0o077)
try {
  if (process.argv.includes('--remove')) {
    await removePassphrase()
    console.log('The passphrase was taken away. The bench is reached from this machine only.')
  } else {
    const first = await ask('Passphrase: ')
    if (process.stdin.isTTY && (await ask('Once more: ')) !== first)
      throw new Error('The two are not the same. Nothing was changed.')
    await setPassphrase(first)
    console.log('The passphrase was set. Everybody has to type it anew.')
  }
} catch (error) {
  console.error(error instanceof Error ? error.message : String(error))
  process.exitCode = 1
}

/** A line that is typed without being shown. */
async function ask(question: string): Promise<string> {
  process.stdout.write(question)
  const nowhere = new Writable({ write: (_chunk, _encoding, done) => done() })
  const lines = createInterface({ input: process.stdin, output: nowhere, terminal: process.stdin.isTTY })
  const line = await lines.question('')
  lines.close()
  process.stdout.write('\n')
  return line
}
