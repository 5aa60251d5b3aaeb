import { DataTypes, type QueryInterface } from 'sequelize'
import type { InputMigrations } from 'umzug'

const text = (allowNull = true) => ({ type: DataTypes.TEXT, allowNull })
const key = { type: DataTypes.STRING, primaryKey: true }
const integer = (allowNull = false) => ({ type: DataTypes.INTEGER, allowNull })
const string = { type: DataTypes.STRING, allowNull: false }

/** Every change of the tables, oldest first. One that has landed is never edited. */
export const MIGRATIONS: InputMigrations<QueryInterface> = [
  {
    name: '0001-bench-and-moves',
    async up({ context }) {
      for (const table of ['computers', 'accessories', 'drives']) {
        await context.createTable(table, { id: key, data: text(false) })
      }
      const stations = ['intake', 'survey', 'route', 'fit', 'ready', 'swap', 'proof', 'handover']
      await context.createTable('moves', {
        id: key,
        position: integer(),
        brief: text(false),
        ...Object.fromEntries(stations.map((station) => [station, text()])),
      })
      await context.createTable('copies', {
        id: key,
        moveId: string,
        status: string,
        startedAt: integer(),
        endedAt: integer(true),
        message: text(),
        progress: text(),
        summary: text(),
      })
      await context.addIndex('copies', ['moveId'])
      await context.createTable('log_entries', {
        id: { type: DataTypes.INTEGER, primaryKey: true, autoIncrement: true },
        moveId: string,
        at: integer(),
        tone: string,
        text: text(false),
      })
      await context.addIndex('log_entries', ['moveId'])
      await context.createTable('clock', {
        id: { type: DataTypes.INTEGER, primaryKey: true },
        at: integer(),
        pace: string,
      })
    },
    async down({ context }) {
      for (const table of ['clock', 'log_entries', 'copies', 'moves', 'drives', 'accessories', 'computers']) {
        await context.dropTable(table)
      }
    },
  },
]
