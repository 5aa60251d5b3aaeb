/** How many characters of the serial a person types. */
export const PLATE_CHARACTERS = 4

/** The serial with what has to be typed left out: what stands in front of the last four. */
export function platePrefix(serial: string): string {
  return serial.slice(0, -PLATE_CHARACTERS)
}

/** True when `typed` are the last four characters of the serial, whatever their case. */
export function plateMatches(serial: string, typed: string): boolean {
  const wanted = serial.slice(-PLATE_CHARACTERS).toUpperCase()
  return typed.trim().toUpperCase() === wanted && wanted.length === PLATE_CHARACTERS
}
