import { findNodeAtLocation, type Node, parseTree, type ParseError, printParseErrorCode } from 'jsonc-parser'
import type { z } from 'zod'
import { CoreError } from './errors'
import { lowerFirst } from './words'

/** A JSON file that cannot be taken: where it is wrong, and what. */
export class JsonFileError extends CoreError {
  override readonly name = 'JsonFileError'
  constructor(
    readonly line: number,
    readonly column: number,
    readonly path: string,
    what: string,
  ) {
    super(`Line ${line}, column ${column}${path && ` (${path})`}: ${what}. Nothing was taken from the file.`)
  }
}

const PARSE_WORDS: Record<string, string> = {
  InvalidSymbol: 'there is a word that is no JSON',
  InvalidNumberFormat: 'there is a number that is no JSON',
  PropertyNameExpected: 'a name in quotes is missing',
  ValueExpected: 'a value is missing',
  ColonExpected: 'a colon is missing',
  CommaExpected: 'a comma is missing',
  CloseBraceExpected: 'a closing brace is missing',
  CloseBracketExpected: 'a closing bracket is missing',
  EndOfFileExpected: 'something stands behind the end',
  UnexpectedEndOfString: 'a text is not closed',
}

/** Where in a file something is, by keys and places in lists. */
export type JsonPath = readonly PropertyKey[]

/**
 * Reads a JSON file of a shape; `contradiction` names what each part allows but the whole does not. Throws
 * JsonFileError with the line, the column and the path of the first thing wrong.
 */
export function readJsonFile<T>(
  text: string,
  schema: z.ZodType<T>,
  contradiction: (file: T) => { path: JsonPath; what: string } | undefined = () => undefined,
): T {
  const errors: ParseError[] = []
  const root = parsedTree(text, errors)
  if (errors.length > 0 || !root) {
    const { error, offset } = errors[0] ?? { error: 0, offset: 0 }
    const code = printParseErrorCode(error)
    throw at(text, offset, [], PARSE_WORDS[code] ?? 'it is no JSON')
  }
  const result = schema.safeParse(JSON.parse(text))
  if (!result.success) {
    const { path, message } = result.error.issues[0]
    throw wrong(text, root, path, lowerFirst(message))
  }
  const problem = contradiction(result.data)
  if (problem) throw wrong(text, root, problem.path, problem.what)
  return result.data
}

function parsedTree(text: string, errors: ParseError[]): Node | undefined {
  try {
    return parseTree(text, errors, { disallowComments: true, allowTrailingComma: false, allowEmptyContent: false })
  } catch (error) {
    // The parser calls itself for each level.
    if (error instanceof RangeError) throw new JsonFileError(1, 1, '', 'lists or objects lie too deep in each other')
    throw error
  }
}

/** The place of a path in the text; of the nearest part that is there when the path itself is missing. */
function wrong(text: string, root: Node, path: JsonPath, what: string): JsonFileError {
  for (let length = path.length; length >= 0; length--) {
    const node = findNodeAtLocation(root, path.slice(0, length).map(segment))
    if (node) return at(text, node.offset, path, what)
  }
  return at(text, 0, path, what)
}

const segment = (key: PropertyKey): string | number => (typeof key === 'number' ? key : String(key))

function at(text: string, offset: number, path: JsonPath, what: string): JsonFileError {
  const before = text.slice(0, offset).split('\n')
  const words = path.reduce<string>(
    (name, key) => (typeof key === 'number' ? `${name}[${key}]` : `${name && `${name}.`}${String(key)}`),
    '',
  )
  return new JsonFileError(before.length, before.at(-1)!.length + 1, words, what.replace(/\.$/, ''))
}
