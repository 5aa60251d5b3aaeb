/** What is answered where something is not carried out. `sentence` makes the words for the person out of the parameters. */
export interface RefusalKind {
  readonly status: 400 | 401 | 403 | 404 | 409 | 421 | 429 | 507
  readonly sentence: (parameters: never) => string
}

/** A table of refusals by their codes, each with parameters of its own. */
export const refusals = <T extends Record<string, RefusalKind>>(kinds: T): T => kinds
