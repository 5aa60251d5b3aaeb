import { stateNow, subscribe } from '@/server/ground/events'

export const dynamic = 'force-dynamic'

/** So many events may wait for a page that is slow. */
const MOST_WAITING = 500

/** Server-sent events: at first the `state` that is shown from now on, then `changed` when a page's state did, with that state, `progress` of running copies. */
export function GET(request: Request): Response {
  const encoder = new TextEncoder()
  let close = () => {}
  const stream = new ReadableStream<Uint8Array>({
    start(controller) {
      const send = (text: string) => controller.enqueue(encoder.encode(text))
      send('retry: 1000\n\n')
      // A page that was made before this state has missed something.
      send(`event: state\ndata: ${JSON.stringify(stateNow())}\n\n`)
      const unsubscribe = subscribe((event) => {
        // A page that no longer takes anything is let go; it comes back by itself and reads its state anew.
        if ((controller.desiredSize ?? 0) < -MOST_WAITING) end()
        else {
          const told = event.type === 'changed' ? { ...event, state: stateNow() } : event
          send(`event: ${event.type}\ndata: ${JSON.stringify(told)}\n\n`)
        }
      })
      // A line now and then keeps the connection from being taken for a dead one.
      const beat = setInterval(() => send(': here\n\n'), 20_000)
      close = () => {
        unsubscribe()
        clearInterval(beat)
        close = () => {}
      }
      const end = () => {
        close()
        try {
          controller.close()
        } catch {
          // The browser closed it first.
        }
      }
      request.signal.addEventListener('abort', end)
    },
    cancel: () => close(),
  })
  return new Response(stream, {
    headers: { 'content-type': 'text/event-stream', 'cache-control': 'no-store, no-transform' },
  })
}
