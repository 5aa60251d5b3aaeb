/** A sentence that goes on after something else, for example after a colon. */
export function lowerFirst(text: string): string {
  return text.charAt(0).toLowerCase() + text.slice(1)
}

/** Words that begin a sentence or a heading. */
export function upperFirst(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1)
}

/** A number with its noun: `1 device`, `3 devices`; `several` for those that do not just get an s. */
export function counted(count: number, noun: string, several = `${noun}s`): string {
  return `${count} ${count === 1 ? noun : several}`
}
