import { Sequelize } from 'sequelize'
import sqlite3 from 'sqlite3'
import { SequelizeStorage, Umzug } from 'umzug'
import { holdDataFolder } from '../ground/data-folder'
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
  const sequelize = new Sequelize({
    dialect: 'sqlite',
    dialectModule: sqlite3,
    storage: databaseFile(),
    logging: false,
    // One connection: SQLite has one writer, and requests here are short.
    pool: { max: 1, min: 1, idle: 2 ** 30 },
  })
  await sequelize.query('PRAGMA journal_mode = WAL')
  await sequelize.query('PRAGMA synchronous = NORMAL')
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
