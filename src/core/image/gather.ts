import type { ImageStore } from './store'

/**
 * Sends parts of one buffer to places of a file, neighbours that stay neighbours in one request. `send` must be
 * called when the buffer is through.
 */
export function gather(store: Pick<ImageStore, 'write'>, from: Uint8Array) {
  let pending: { goal: number; start: number; end: number } | undefined
  const send = async (): Promise<void> => {
    if (pending) await store.write(pending.goal, from.subarray(pending.start, pending.end))
    pending = undefined
  }
  return {
    send,
    /** Bytes `start` to `end` of the buffer go to byte `goal` of the file. */
    async put(goal: number, start: number, end: number): Promise<void> {
      if (pending && pending.end === start && pending.goal + pending.end - pending.start === goal) {
        pending.end = end
        return
      }
      await send()
      pending = { goal, start, end }
    },
  }
}
