import { DataTypes, type ModelAttributeColumnOptions } from 'sequelize'
import type { z } from 'zod'

/** A text column that holds JSON of this schema, checked on the way in and on the way out. */
export function jsonColumn<S extends z.ZodType>(
  name: string,
  schema: S,
  allowNull = true,
): ModelAttributeColumnOptions {
  return {
    type: DataTypes.TEXT,
    allowNull,
    get() {
      const text = this.getDataValue(name) as string | null | undefined
      return text == null ? null : schema.parse(JSON.parse(text))
    },
    set(value: unknown) {
      this.setDataValue(name, value == null ? null : JSON.stringify(schema.parse(value)))
    },
  }
}
