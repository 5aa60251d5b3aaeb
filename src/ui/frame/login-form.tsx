const REASONS = {
  wrong: 'That is not the passphrase.',
  wait: 'Too many passphrases were tried. Wait a minute, then try again.',
}

/** Where the passphrase of a bench is typed that others in the network can reach. It needs no script. */
export function LoginForm({ why }: { why?: keyof typeof REASONS }) {
  return (
    <main className="mx-auto grid min-h-dvh max-w-md content-center px-5">
      <form action="/api/session" method="post" className="panel grid gap-4 p-6">
        <div>
          <h1 data-testid="finding">This bench is locked</h1>
          <p className="mt-1.5 text-ink-soft">
            It can be reached from the network, so it opens with its passphrase. Whoever started the server has set it.
          </p>
        </div>
        <label className="grid gap-1.5 font-semibold" htmlFor="passphrase">
          Passphrase
          <input
            id="passphrase"
            name="passphrase"
            type="password"
            required
            autoFocus
            autoComplete="current-password"
            maxLength={200}
            className="min-h-10 rounded-md border border-line-strong bg-paper px-2.5 font-normal"
          />
        </label>
        {why && (
          <p role="alert" className="font-semibold text-vermilion">
            {REASONS[why]}
          </p>
        )}
        <button
          type="submit"
          className="rounded-md bg-magenta px-4 py-2.5 font-semibold text-on-magenta hover:opacity-90"
        >
          Open the bench
        </button>
      </form>
    </main>
  )
}
