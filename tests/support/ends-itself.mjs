// Loaded into a command: ends its process, as a power cut would, in the instant in which it tells what is waited for.
const when = new RegExp(process.env.POWER_CUT_WHEN ?? '')
const { write } = process.stderr

process.stderr.write = function (text, ...more) {
  if (when.test(String(text))) process.kill(process.pid, 'SIGKILL')
  return write.call(this, text, ...more)
}
