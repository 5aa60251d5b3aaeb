/** The state of the server that a page was made of: of which process, and after how many changes there. */
export interface PageState {
  readonly server: string
  readonly changes: number
}

/** Whether a page made of `shown` shows all that there was at `state`. */
export function showsAll(shown: PageState, state: PageState): boolean {
  return shown.server === state.server && shown.changes >= state.changes
}
