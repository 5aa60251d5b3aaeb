import { CoreError } from '../errors'
import { utf8Bytes } from '../words'

/** What a kind lets a volume be called. */
interface LabelRule {
  readonly name: string
  /** What is wrong with a label, as the end of "Its label has …"; undefined where nothing is. */
  readonly limit: string
  readonly allows: (label: string) => boolean
}

const FAT_CHARACTERS = 11
const EXFAT_UNITS = 11
const NTFS_UNITS = 128
const EXT_BYTES = 16

const FAT: LabelRule = {
  name: 'A FAT volume',
  limit: `at most ${FAT_CHARACTERS} letters, digits and blanks`,
  allows: (label) => {
    const text = label.toUpperCase()
    const plain = text.length <= FAT_CHARACTERS && /^[ -~]*$/.test(text)
    return plain && !/["*+,./:;<=>?[\\\]|]/.test(text) && !/^ | $/.test(text)
  },
}
const EXT: LabelRule = {
  name: 'An ext volume',
  limit: `at most ${EXT_BYTES} bytes in UTF-8`,
  allows: (label) => utf8Bytes(label) <= EXT_BYTES && !label.includes('\0'),
}

/** By kind, as a survey has it; kinds that are not here keep their label. */
const RULES: Readonly<Record<string, LabelRule>> = {
  fat12: FAT,
  fat16: FAT,
  fat32: FAT,
  ext2: EXT,
  ext3: EXT,
  ext4: EXT,
  exfat: {
    name: 'An exFAT volume',
    limit: `at most ${EXFAT_UNITS} characters, none of which means something in a path`,
    allows: (label) => label.length <= EXFAT_UNITS && !/[\u0000-\u001f/\\:*?"<>|]/.test(label),
  },
  ntfs: {
    name: 'An NTFS volume',
    limit: `at most ${NTFS_UNITS} characters`,
    allows: (label) => label.length <= NTFS_UNITS && !label.includes('\0'),
  },
}

/** Whether the label of a volume of that kind can be written here. */
export const canBeCalled = (kind: string): boolean => kind in RULES

/** Throws CoreError where a volume of a kind cannot be called so. */
export function expectLabel(kind: string, label: string): void {
  const problem = labelProblem(kind, label)
  if (problem !== undefined) throw new CoreError(problem)
}

/** Why a volume of a kind cannot have a label, as a sentence; undefined where it can. */
export function labelProblem(kind: string, label: string): string | undefined {
  const rule = RULES[kind]
  if (!rule) return 'The label of this kind of volume is not written here.'
  return rule.allows(label) ? undefined : `${rule.name} cannot be called ${label}. Its label has ${rule.limit}.`
}
