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

const LIST = new Intl.ListFormat('en-GB')

/** Several things as they stand in a sentence: `a stick, a dock and a drive`. */
export function listed(things: readonly string[]): string {
  return LIST.format(things)
}

/** How many bytes a text has in UTF-8. */
export const utf8Bytes = (text: string) => new TextEncoder().encode(text).length

/** The beginning of a text in at most so many bytes of UTF-8. It ends with a whole character, as people see one, and in no blank. */
export function cutToBytes(text: string, most: number): string {
  let left = most
  let cut = ''
  for (const { segment } of new Intl.Segmenter().segment(text)) {
    left -= utf8Bytes(segment)
    if (left < 0) break
    cut += segment
  }
  return cut.trimEnd()
}
