/** Runs once when the server starts, before it answers: what keeps it from working is said now, not at the first click. */
export async function register(): Promise<void> {
  if (process.env.NEXT_RUNTIME !== 'nodejs') return
  const { start } = await import('./server/start')
  await start()
}
