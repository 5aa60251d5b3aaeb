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

/** Where copies keep what is sure of them. */
export function journalsFolder(): string {
  return path.join(dataFolder(), 'journals')
}

/** Where virtual disks lie: a folder of the person's choice, or one beside the drives. */
export function imagesFolder(): string {
  const chosen = process.env.IMBARCO_IMAGES
  return chosen ? path.resolve(/* turbopackIgnore: true */ chosen) : path.join(dataFolder(), 'images')
}

/** Where uploads are kept until they are whole. */
export function uploadsFolder(): string {
  return path.join(dataFolder(), 'uploads')
}

/** Where the key is kept by which another bench lends a drive. */
export function lentKeyFile(driveId: string): string {
  return path.join(dataFolder(), 'keys', `${driveId.replace(/[^\w-]/g, '_')}.psk`)
}
