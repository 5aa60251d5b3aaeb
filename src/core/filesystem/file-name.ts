import { CoreError } from '../errors'

/** The longest name in NTFS, exFAT and the long names of FAT, in UTF-16 units. */
export const MOST_NAME_UNITS = 255

/**
 * Throws CoreError for a name that a file cannot have in NTFS, exFAT or FAT: one with a character that means something in
 * a path there, or that ends in a dot or a blank, which readers leave off.
 */
export function expectFileName(name: string): void {
  const taken = name.length <= MOST_NAME_UNITS && name !== '' && !/[\u0000-\u001f/\\:*?"<>|]|[. ]$/.test(name)
  if (!taken)
    throw new CoreError(
      `${name} cannot be the name of a file there. It takes none of \\ / : * ? " < > |, ends in neither dot nor blank, and has at most ${MOST_NAME_UNITS} characters.`,
    )
}
