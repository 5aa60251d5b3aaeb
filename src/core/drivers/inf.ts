import { utf16ToString } from '../bytes/struct'

// The text of a setup information file, as its maker's public description of the format has it: sections in brackets,
// lines of a key and its values, `;` before remarks, `\` at the end of a line that goes on, `%names%` for texts.

/** One line of a section. A line without a key has only values. */
export interface InfLine {
  readonly key: string
  readonly values: readonly string[]
}

/** Sections by their names in lower case, their lines in order; a section that stands twice is one. */
export type Inf = ReadonlyMap<string, readonly InfLine[]>

const MOST_LINES = 20_000

/** Reads the text; what is not understood is left out. UTF-16 is told by its mark, all else is taken as UTF-8. */
export function readInf(bytes: Uint8Array): Inf {
  const text =
    bytes[0] === 0xff && bytes[1] === 0xfe
      ? utf16ToString(bytes, 2, Math.floor(bytes.length / 2) - 1)
      : new TextDecoder().decode(bytes)
  const sections = new Map<string, InfLine[]>()
  let lines: InfLine[] | undefined
  let begun = ''
  for (const raw of text.split(/\r\n|\n|\r/).slice(0, MOST_LINES)) {
    const plain = withoutRemark(raw).trim()
    if (plain.endsWith('\\')) {
      begun += plain.slice(0, -1)
      continue
    }
    const line = begun + plain
    begun = ''
    const section = /^\[([^\]]+)\]$/.exec(line)
    if (section) {
      const name = section[1].trim().toLowerCase()
      lines = sections.get(name) ?? []
      sections.set(name, lines)
    } else if (line !== '' && lines) lines.push(infLine(line))
  }
  return withTexts(sections)
}

function withoutRemark(line: string): string {
  let quoted = false
  for (let i = 0; i < line.length; i++) {
    if (line[i] === '"') quoted = !quoted
    else if (line[i] === ';' && !quoted) return line.slice(0, i)
  }
  return line
}

function infLine(line: string): InfLine {
  const parts = (line.match(/(?:"[^"]*"|[^"=])*=|(?:"[^"]*"|[^",])+|,/g) ?? [line]).map((p) => p.trim())
  const hasKey = parts[0].endsWith('=')
  const key = hasKey ? unquoted(parts[0].slice(0, -1).trim()) : ''
  const values: string[] = []
  let value = ''
  for (const part of parts.slice(hasKey ? 1 : 0)) {
    if (part === ',') {
      values.push(unquoted(value))
      value = ''
    } else value += part
  }
  return { key, values: [...values, unquoted(value)] }
}

const unquoted = (text: string) => text.trim().replace(/^"(.*)"$/s, '$1')

function withTexts(sections: ReadonlyMap<string, readonly InfLine[]>): Inf {
  const texts = new Map((sections.get('strings') ?? []).map((l) => [l.key.toLowerCase(), l.values.join(', ')]))
  // Numbers in percent signs are folders and stay as they are.
  const put = (text: string) =>
    text.replace(/%([^%]+)%/g, (whole, name: string) => texts.get(name.toLowerCase()) ?? whole)
  return new Map(
    [...sections].map(([name, lines]) => [name, lines.map((l) => ({ key: put(l.key), values: l.values.map(put) }))]),
  )
}
