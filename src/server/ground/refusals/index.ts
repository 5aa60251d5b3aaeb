import type { RefusalKind } from './define'
import { GENERAL } from './general'
import { IMAGES } from './images'
import { MOVES } from './moves'
import { WORLD } from './world'

/** Every refusal of the server: its code, the status of its response, and the one place of its sentence. */
export const REFUSALS = { ...GENERAL, ...IMAGES, ...WORLD, ...MOVES }

export type RefusalCode = keyof typeof REFUSALS

type ParametersOf<C extends RefusalCode> = Parameters<(typeof REFUSALS)[C]['sentence']>

/** What is not carried out, as data: a code with its parameters. `message` is the sentence for the person. */
export class Refusal<C extends RefusalCode = RefusalCode> extends Error {
  override readonly name = 'Refusal'

  /** The server's code is bundled more than once, and a refusal of one bundle is one for all. */
  static override [Symbol.hasInstance](value: unknown): boolean {
    return value instanceof Error && value.name === 'Refusal' && 'code' in value
  }

  readonly status: RefusalKind['status']
  readonly parameters: Readonly<Record<string, unknown>>

  constructor(
    readonly code: C,
    ...parameters: ParametersOf<C>
  ) {
    const { status, sentence }: RefusalKind = REFUSALS[code]
    super((sentence as (...given: unknown[]) => string)(...parameters))
    this.status = status
    this.parameters = { ...parameters[0] }
  }
}
