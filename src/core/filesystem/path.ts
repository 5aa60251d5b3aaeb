/** The parts of a path. Both `/` and `\` separate, since boot data writes the latter. */
export function splitPath(path: string): string[] {
  return path.split(/[\\/]+/).filter((part) => part !== '')
}

/** Last part of a path. */
export function baseName(path: string): string {
  return splitPath(path).at(-1) ?? ''
}
