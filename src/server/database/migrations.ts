import { DataTypes, type QueryInterface } from 'sequelize'
import type { InputMigrations } from 'umzug'
import {
  upgradeBrief,
  upgradeChoices,
  upgradeFit,
  upgradeNotes,
  upgradeReady,
  upgradeRoute,
  upgradeThing,
} from './upgrade'

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
  {
    name: '0002-benches-and-legs',
    async up({ context }) {
      await context.createTable('benches', {
        id: key,
        name: string,
        position: integer(),
        active: { type: DataTypes.BOOLEAN, allowNull: false },
      })
      const inBench = { ...string, defaultValue: FIRST_BENCH }
      for (const table of ['computers', 'accessories', 'drives', 'moves']) {
        await context.addColumn(table, 'benchId', inBench)
        await context.addIndex(table, ['benchId'])
      }
      await context.addColumn('copies', 'leg', { ...integer(), defaultValue: 0 })
      await context.addColumn('copies', 'way', text())
      await context.addColumn('copies', 'share', { type: DataTypes.FLOAT, allowNull: true })
      await describeAnew(context)
    },
    async down() {
      throw new Error('The descriptions of an earlier version cannot be made again.')
    },
  },
  {
    name: '0003-fits-of-any-layout',
    async up({ context }) {
      const { sequelize } = context
      const moves = (await sequelize.query('SELECT id, fit FROM moves WHERE fit IS NOT NULL', {
        type: 'SELECT',
      })) as Record<string, string>[]
      for (const { id, fit } of moves) {
        const replacements = { id, fit: JSON.stringify(upgradeFit(JSON.parse(fit))) }
        await sequelize.query('UPDATE moves SET fit = :fit WHERE id = :id', { replacements })
      }
    },
    async down() {
      throw new Error('The fits of an earlier version cannot be made again.')
    },
  },
  {
    name: '0004-copies-that-go-on',
    async up({ context }) {
      await context.addColumn('copies', 'choices', text())
      await context.addColumn('copies', 'goesOn', { type: DataTypes.BOOLEAN, allowNull: false, defaultValue: false })
    },
    async down({ context }) {
      await context.removeColumn('copies', 'choices')
      await context.removeColumn('copies', 'goesOn')
    },
  },
  {
    name: '0005-copies-that-read-back-unequal',
    async up({ context }) {
      await context.addColumn('copies', 'unequal', { type: DataTypes.BOOLEAN, allowNull: false, defaultValue: false })
    },
    async down({ context }) {
      await context.removeColumn('copies', 'unequal')
    },
  },
  {
    name: '0006-digests-of-the-old-drives-files',
    async up({ context }) {
      await context.addColumn('copies', 'samples', text())
    },
    async down({ context }) {
      await context.removeColumn('copies', 'samples')
    },
  },
  {
    name: '0007-page-files-that-are-skipped',
    async up({ context }) {
      for (const [table, column] of [
        ['moves', 'ready'],
        ['copies', 'choices'],
        ['copies', 'summary'],
      ]) {
        const rows = (await context.sequelize.query(
          `SELECT id, ${column} AS data FROM ${table} WHERE data IS NOT NULL`,
          {
            type: 'SELECT',
          },
        )) as Record<string, string>[]
        for (const { id, data } of rows) {
          const replacements = { id, data: JSON.stringify(upgradeChoices(JSON.parse(data))) }
          await context.sequelize.query(`UPDATE ${table} SET ${column} = :data WHERE id = :id`, { replacements })
        }
      }
    },
    async down() {
      throw new Error('The choices of an earlier version cannot be made again.')
    },
  },
  {
    name: '0008-jobs',
    async up({ context }) {
      await context.createTable('jobs', {
        id: key,
        kind: string,
        title: text(false),
        moveId: DataTypes.STRING,
        state: string,
        startedAt: integer(),
        endedAt: integer(true),
        message: text(),
        result: text(),
      })
      await context.addIndex('jobs', ['state'])
      await context.addIndex('jobs', ['moveId'])
    },
    async down({ context }) {
      await context.dropTable('jobs')
    },
  },
  {
    name: '0009-what-the-rail-says',
    async up({ context }) {
      for (const column of ['surveyNote', 'fitNote', 'proofNote']) await context.addColumn('moves', column, text())
      const rows = (await context.sequelize.query('SELECT id, survey, fit, proof FROM moves', {
        type: 'SELECT',
      })) as Record<'id' | 'survey' | 'fit' | 'proof', string | null>[]
      for (const { id, ...texts } of rows) {
        const replacements = { id, ...upgradeNotes(texts) }
        await context.sequelize.query(
          'UPDATE moves SET surveyNote = :surveyNote, fitNote = :fitNote, proofNote = :proofNote WHERE id = :id',
          { replacements },
        )
      }
      await context.addIndex('moves', ['benchId', 'position'])
    },
    async down({ context }) {
      for (const column of ['surveyNote', 'fitNote', 'proofNote']) await context.removeColumn('moves', column)
    },
  },
  {
    name: '0010-moves-laid-aside',
    async up({ context }) {
      await context.addColumn('moves', 'standing', text())
    },
    async down({ context }) {
      await context.removeColumn('moves', 'standing')
    },
  },
  {
    name: '0011-columns-of-copies-by-their-names',
    async up({ context }) {
      for (const [before, now] of RENAMED) await renameColumn(context, before, now)
    },
    async down({ context }) {
      for (const [before, now] of RENAMED) await renameColumn(context, now, before)
    },
  },
  {
    name: '0012-acknowledgements-and-link-keys',
    async up({ context: { sequelize } }) {
      const rows = (await sequelize.query('SELECT id, ready, route FROM moves', { type: 'SELECT' })) as Record<
        'id' | 'ready' | 'route',
        string | null
      >[]
      for (const { id, ready, route } of rows) {
        const replacements = { id, ready: upgraded(ready, upgradeReady), route: upgraded(route, upgradeRoute) }
        await sequelize.query('UPDATE moves SET ready = :ready, route = :route WHERE id = :id', { replacements })
      }
    },
  },
  {
    name: '0013-shop-of-a-bench',
    async up({ context }) {
      await context.addColumn('benches', 'shop', text())
    },
    async down({ context }) {
      await context.removeColumn('benches', 'shop')
    },
  },
  {
    name: '0014-series',
    async up({ context }) {
      await context.createTable('series', { id: key, benchId: string, data: text(false) })
    },
    async down({ context }) {
      await context.dropTable('series')
    },
  },
]

/** A stored text in the form of now; one that cannot be read stays as it is. */
function upgraded(text: string | null, upgrade: (old: Record<string, unknown>) => object): string | null {
  if (text === null) return null
  try {
    return JSON.stringify(upgrade(JSON.parse(text) as Record<string, unknown>))
  } catch {
    return text
  }
}

/** Columns of copies, as they were called and are called. */
const RENAMED = [
  ['way', 'linkKey'],
  ['share', 'throughputRatio'],
  ['goesOn', 'resumable'],
  ['unequal', 'verifyFailed'],
] as const

const renameColumn = (context: QueryInterface, before: string, now: string) =>
  context.sequelize.query(`ALTER TABLE copies RENAME COLUMN "${before}" TO "${now}"`)

/** The bench that the things of the first version are on. */
const FIRST_BENCH = 'molo-sette'

/** Turns descriptions of the first version into those of now. Moves begin again at Intake; their logbook stays. */
async function describeAnew(context: QueryInterface): Promise<void> {
  const { sequelize } = context
  const rows = async (table: string) =>
    (await sequelize.query(`SELECT * FROM ${table}`, { type: 'SELECT' })) as Record<string, string>[]
  for (const table of ['computers', 'accessories', 'drives'] as const) {
    for (const { id, data } of await rows(table)) {
      const replacements = { id, data: JSON.stringify(upgradeThing(table, JSON.parse(data))) }
      await sequelize.query(`UPDATE ${table} SET data = :data WHERE id = :id`, { replacements })
    }
  }
  const moves = await rows('moves')
  if (moves.length === 0) return
  for (const { id, brief } of moves) {
    const replacements = { id, brief: JSON.stringify(upgradeBrief(JSON.parse(brief))) }
    const empty = ['intake', 'survey', 'route', 'fit', 'ready', 'swap', 'proof', 'handover'].map((c) => `${c} = NULL`)
    await sequelize.query(`UPDATE moves SET brief = :brief, ${empty.join(', ')} WHERE id = :id`, { replacements })
  }
  await sequelize.query('DELETE FROM copies')
  await sequelize.query(
    `INSERT INTO benches (id, name, position, active) VALUES ('${FIRST_BENCH}', 'Molo Sette', 0, 1)`,
  )
}
