import path from 'node:path'
import { Sequelize } from 'sequelize'
import sqlite3 from 'sqlite3'
import { SequelizeStorage, Umzug } from 'umzug'
import { DataFolderUnusable, holdDataFolder } from '../ground/data-folder'
import { databaseFile } from '../ground/paths'
import { singleton } from '../ground/singleton'
import { MIGRATIONS } from './migrations'
import { defineModels } from './models'

let defined: Promise<Sequelize> | undefined

/**
 * The connection, opened and brought up to date once for the process, which then holds the data folder; every service awaits it before its first
 * query. The models belong to this copy of the module, so each copy ties its own to the one connection.
 */
export function database(): Promise<Sequelize> {
  return (defined ??= singleton('database', open).then((sequelize) => {
    defineModels(sequelize)
    return sequelize
  }))
}

async function open(): Promise<Sequelize> {
  await holdDataFolder()
  try {
    return await openFile()
  } catch (error) {
    throw sentenceFor(error)
  }
}

/** What is wrong with the database in a sentence, where that is known. */
function sentenceFor(error: unknown): unknown {
  const text = error instanceof Error ? error.message : String(error)
  const file = databaseFile()
  if (/SQLITE_(NOTADB|CORRUPT)|malformed|quick_check/.test(text)) {
    return new DataFolderUnusable(
      `The database ${file} is damaged and was left as it is. Put a copy of it back in its place; the drives beside it are not touched. Its files are ${path.basename(file)}, -wal and -shm.`,
    )
  }
  if (/SQLITE_BUSY|SQLITE_LOCKED/.test(text))
    return new DataFolderUnusable(`The database ${file} is locked by another program. Close that, and start again.`)
  if (/SQLITE_FULL/.test(text))
    return new DataFolderUnusable(`The disk that holds the database ${file} is full. Make room on it, and start again.`)
  if (/SQLITE_(READONLY|CANTOPEN|PERM)/.test(text))
    return new DataFolderUnusable(`The database ${file} cannot be written to by this user.`)
  return error
}

async function openFile(): Promise<Sequelize> {
  const sequelize = new Sequelize({
    dialect: 'sqlite',
    dialectModule: sqlite3,
    storage: databaseFile(),
    logging: false,
    // One connection: SQLite has one writer, and requests here are short.
    pool: { max: 1, min: 1, idle: 2 ** 30 },
  })
  // Of one row that is asked for, what types its table has would be asked first; none of ours are turned into others.
  sequelize.addHook('beforeQuery', (_, query) => {
    const { options } = query as unknown as { options: { plain?: boolean; tableNames?: string[] } }
    if (options.plain) options.tableNames = []
  })
  await sequelize.query('PRAGMA journal_mode = WAL')
  await sequelize.query('PRAGMA synchronous = NORMAL')
  const [[{ quick_check: found }]] = (await sequelize.query('PRAGMA quick_check(1)')) as [
    [{ quick_check: string }],
    unknown,
  ]
  if (found !== 'ok') throw new Error(`quick_check: ${found}`)
  const context = sequelize.getQueryInterface()
  const umzug = new Umzug({
    migrations: MIGRATIONS,
    context,
    storage: new SequelizeStorage({ sequelize }),
    logger: undefined,
  })
  await umzug.up()
  return sequelize
}
