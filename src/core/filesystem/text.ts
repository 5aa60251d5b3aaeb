/** Text of a fixed field up to its first zero, with the blanks at its end taken off. */
export function trimZeros(text: string): string {
  const end = text.indexOf('\0')
  return (end >= 0 ? text.slice(0, end) : text).trimEnd()
}

/** UTF-8 bytes up to their first zero; what is not valid text becomes a replacement character. */
export function utf8Text(bytes: Uint8Array): string {
  const end = bytes.indexOf(0)
  return new TextDecoder('utf-8').decode(end >= 0 ? bytes.subarray(0, end) : bytes)
}
