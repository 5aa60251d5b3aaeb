import { DataTypes, type ModelAttributeColumnOptions } from 'sequelize'
import type { z } from 'zod'
import { CoreError } from '@/core/errors'

/** What the database has does not have its form: a fault of the stored state, and of no request. */
export class StoredDamaged extends CoreError {
  override readonly name = 'StoredDamaged'
  constructor(
    readonly column: string,
    options: ErrorOptions,
  ) {
    super(
      `What is stored of it cannot be read (${column}). It was left as it is; the server’s log says what is wrong.`,
      options,
    )
  }
}

/** A text column that holds JSON of this schema, checked on the way in and on the way out. What comes out is frozen. */
export function jsonColumn<S extends z.ZodType>(
  name: string,
  schema: S,
  allowNull = true,
  /** How many different texts are remembered as what they mean. */
  kept = KEPT,
): ModelAttributeColumnOptions {
  const known = new Map<string, unknown>()
  return {
    type: DataTypes.TEXT,
    allowNull,
    get() {
      const text = this.getDataValue(name) as string | null | undefined
      return text == null ? null : parsed(schema, text, known, kept, name)
    },
    set(value: unknown) {
      this.setDataValue(name, value == null ? null : JSON.stringify(schema.parse(value)))
    },
  }
}

/** Of a column of long texts. */
const KEPT = 48

/**
 * What a text means. A survey is long and is asked for many times by one page, so that checking it each time would hold
 * everything else up; the same text always means the same.
 */
function parsed(schema: z.ZodType, text: string, known: Map<string, unknown>, kept: number, name: string): unknown {
  const value = known.has(text) ? known.get(text) : frozen(meaningOf(schema, text, name))
  // The newest stands last, the oldest goes.
  known.delete(text)
  known.set(text, value)
  if (known.size > kept) known.delete(known.keys().next().value!)
  return value
}

function meaningOf(schema: z.ZodType, text: string, name: string): unknown {
  try {
    return schema.parse(JSON.parse(text))
  } catch (error) {
    throw new StoredDamaged(name, { cause: error })
  }
}

function frozen<T>(value: T): T {
  if (typeof value === 'object' && value !== null && !Object.isFrozen(value)) {
    Object.freeze(value)
    for (const part of Object.values(value)) frozen(part)
  }
  return value
}
