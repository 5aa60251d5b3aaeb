import * as z from 'zod'

/** A text on one line that can be shown and stored: no control characters, no halves of a character. */
export const line = () =>
  z.string().regex(/^[^\p{Cc}\p{Surrogate}]*$/u, 'There is a character in this text that cannot be shown')
