import { formatSize } from '@/core/bytes/size'
import { refusals } from './define'

export const IMAGES = refusals({
  'image-no-package': {
    status: 400,
    sentence: ({ name }: { name: string }) => `${name} is no package of a virtual machine, by its name.`,
  },
  'no-host': { status: 409, sentence: () => 'There is no host for virtual machines on this bench. Add one first.' },
  'image-unknown': {
    status: 404,
    sentence: ({ name }: { name: string }) => `There is no image ${name} in the images folder.`,
  },
  'image-outside': {
    status: 403,
    sentence: ({ name }: { name: string }) => `${name} leads out of the images folder and is not opened.`,
  },
  'image-no-file': { status: 404, sentence: ({ name }: { name: string }) => `${name} is not a file.` },
  'image-name-taken': {
    status: 409,
    sentence: ({ name }: { name: string }) => `There is an image ${name} already. Choose another name.`,
  },
  'image-not-opened': { status: 409, sentence: ({ why }: { why: string }) => why },
  'image-no-record': {
    status: 409,
    sentence: ({ name }: { name: string }) =>
      `There is no record beside ${name}, so there is nothing to hold it against.`,
  },
  'image-packed': {
    status: 409,
    sentence: ({ name, packing }: { name: string; packing: string }) =>
      `${name} is packed with ${packing}. Convert it into an image first.`,
  },
  'image-jobs-full': {
    status: 409,
    sentence: () => 'Two images are being worked on already. Wait for one of them to end.',
  },
  'disk-with-itself': {
    status: 409,
    sentence: () => 'These are the same bytes. Choose another disk to compare with.',
  },
  'images-folder-full': {
    status: 507,
    sentence: ({ freeBytes, neededBytes }: { freeBytes: number; neededBytes: number }) =>
      `There is room for ${formatSize(freeBytes)} where the images lie, and about ${formatSize(neededBytes)} are needed. Nothing was written.`,
  },
  'upload-empty': {
    status: 400,
    sentence: () => 'The upload does not say how long it is, or is empty. Nothing was stored.',
  },
  'uploads-no-room': {
    status: 507,
    sentence: ({ sizeBytes, freeBytes, comingBytes }: { sizeBytes: number; freeBytes: number; comingBytes: number }) =>
      `The file has ${formatSize(sizeBytes)}, and there is room for ${formatSize(freeBytes)}${comingBytes > 0 ? ' beside the uploads that are not whole yet' : ''}. Nothing was stored.`,
  },
  'image-is-drive': {
    status: 409,
    sentence: ({ name, drive }: { name: string; drive: string }) =>
      `${name} is on a bench as the ${drive}. Remove that drive first.`,
  },
  'image-built-on': {
    status: 409,
    sentence: ({ name, child }: { name: string; child: string }) =>
      `${child} builds on ${name}. Delete that one first.`,
  },
  'store-no-volume': {
    status: 409,
    sentence: ({ drive, partition }: { drive: string; partition: number }) =>
      `Partition ${partition} of the ${drive} is no clean NTFS, exFAT or FAT volume of its own that images could be kept in. Nothing was written.`,
  },
  'store-reserved': { status: 409, sentence: ({ why }: { why: string }) => `${why} Nothing was written.` },
  'store-is-source': {
    status: 409,
    sentence: ({ drive }: { drive: string }) =>
      `The image of the ${drive} cannot be kept on that drive itself. Choose another place. Nothing was written.`,
  },
  'store-full': {
    status: 507,
    sentence: ({ drive, freeBytes, neededBytes }: { drive: string; freeBytes: number; neededBytes: number }) =>
      `The ${drive} has room for ${formatSize(freeBytes)}, and ${formatSize(neededBytes)} are needed. Nothing was written.`,
  },
  'image-not-on-drive': {
    status: 404,
    sentence: ({ name, drive }: { name: string; drive: string }) => `There is no image ${name} on the ${drive}.`,
  },
  'image-of-move': {
    status: 409,
    sentence: ({ name, move }: { name: string; move: string }) =>
      `${name} is the image of a move: ${move}. Close that or give it up first.`,
  },
  'pack-machine-runs': {
    status: 409,
    sentence: ({ computer }: { computer: string }) =>
      `The ${computer} runs, and its disks change meanwhile. Shut it down first. Nothing was written.`,
  },
  'pack-no-disk': {
    status: 409,
    sentence: ({ computer, disk }: { computer: string; disk: string | null }) =>
      disk === null
        ? `The ${computer} has no disk. Nothing was written.`
        : `The ${disk} of the ${computer} is only described; there are no bytes to write.`,
  },
  'image-on-bench': {
    status: 409,
    sentence: ({ name, drive }: { name: string; drive: string }) =>
      `The image ${name} is on the bench already, as the ${drive}.`,
  },
})
