import path from 'node:path'

/** The one folder that holds everything the bench remembers: database, drives' bytes. */
export function dataFolder(): string {
  return path.resolve(/* turbopackIgnore: true */ process.env.IMBARCO_DATA ?? 'data')
}

export function databaseFile(): string {
  return path.join(dataFolder(), 'imbarco.sqlite')
}

export function drivesFolder(): string {
  return path.join(dataFolder(), 'drives')
}
