import { readFile, rm } from 'node:fs/promises'
import path from 'node:path'
import sqlite3 from 'sqlite3'
import * as z from 'zod'
import { CoreError } from '@/core/errors'
import { writeWhole } from './whole-file'

/** Who has a folder, for the sentence that whoever comes second is told. */
const HolderSchema = z.object({
  pid: z.number().int(),
  /** Where it is reached; empty for a program that serves nothing. */
  address: z.string().max(300),
})
export type FolderHolder = z.infer<typeof HolderSchema>

/** Another process holds the folder. */
export class FolderInUse extends CoreError {
  override readonly name = 'FolderInUse'
  constructor(
    folder: string,
    readonly holder: FolderHolder | undefined,
  ) {
    const who = holder
      ? `by process ${holder.pid}${holder.address ? `, which serves ${holder.address}` : ''}`
      : 'by another process'
    super(
      `The data folder ${folder} is in use ${who}. Use that one, or stop it first; a second one needs a folder of its own in IMBARCO_DATA.`,
    )
  }
}

export interface FolderLock {
  release(): Promise<void>
}

/**
 * Takes a folder for this process alone. The lock is the operating system's, by way of SQLite, so that it goes with the
 * process however that ends. Rejects with FolderInUse while another process has it.
 */
export async function lockFolder(folder: string, address = ''): Promise<FolderLock> {
  const told = path.join(folder, 'in-use.json')
  const connection = await connect(path.join(folder, 'in-use.lock'))
  try {
    // The transaction stays open for as long as the folder is held; nothing is ever written in it.
    await run(connection, 'BEGIN EXCLUSIVE')
  } catch (error) {
    await close(connection)
    if ((error as { code?: string }).code !== 'SQLITE_BUSY') throw error
    throw new FolderInUse(folder, await holderIn(told))
  }
  const holder: FolderHolder = { pid: process.pid, address }
  await writeWhole(told, JSON.stringify(holder))
  return {
    async release() {
      await rm(told, { force: true })
      await close(connection)
    },
  }
}

async function holderIn(file: string): Promise<FolderHolder | undefined> {
  try {
    return HolderSchema.parse(JSON.parse(await readFile(file, 'utf8')))
  } catch {
    return undefined
  }
}

function connect(file: string): Promise<sqlite3.Database> {
  return new Promise((resolve, reject) => {
    const connection: sqlite3.Database = new sqlite3.Database(file, (error) =>
      error ? reject(error) : resolve(connection),
    )
  })
}

function run(connection: sqlite3.Database, sql: string): Promise<void> {
  return new Promise((resolve, reject) => {
    connection.run(sql, (error: Error | null) => (error ? reject(error) : resolve()))
  })
}

function close(connection: sqlite3.Database): Promise<void> {
  return new Promise((resolve) => connection.close(() => resolve()))
}
