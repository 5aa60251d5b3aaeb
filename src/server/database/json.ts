import { DataTypes, type ModelAttributeColumnOptions } from 'sequelize'
import type { z } from 'zod'

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
      return text == null ? null : parsed(schema, text, known, kept)
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
function parsed(schema: z.ZodType, text: string, known: Map<string, unknown>, kept: number): unknown {
  const value = known.has(text) ? known.get(text) : frozen(schema.parse(JSON.parse(text)))
  // The newest stands last, the oldest goes.
  known.delete(text)
  known.set(text, value)
  if (known.size > kept) known.delete(known.keys().next().value!)
  return value
}

function frozen<T>(value: T): T {
  if (typeof value === 'object' && value !== null && !Object.isFrozen(value)) {
    Object.freeze(value)
    for (const part of Object.values(value)) frozen(part)
  }
  return value
}
