import { groupDigits } from '@/core/bytes/size'
import { refusals } from './define'

interface Named {
  readonly computer: string
}

interface OfDrive {
  readonly drive: string
}

/** Why a drive that another bench lends cannot be read. */
const NOT_HERE: Readonly<Record<string, string>> = {
  'not asked': 'the bench that lends it was not asked for it',
  asked: 'the bench that lends it has not said yes yet',
  away: 'there is no connection to the bench that lends it',
  refused: 'the bench that lends it said no, or took its yes back',
}

export const WORLD = refusals({
  'no-bench': {
    status: 404,
    sentence: () => 'There is no bench yet. Make the demo bench with "npm run demo".',
  },
  'bench-unknown': { status: 404, sentence: () => 'There is no such bench.' },
  'bench-name-wrong': {
    status: 409,
    sentence: ({ name }: { name: string }) => `That is not the name of this bench, ${name}. Nothing was removed.`,
  },
  'bench-last': { status: 409, sentence: () => 'This is the only bench. Make another one first.' },
  'bench-in-use': {
    status: 409,
    sentence: ({ purpose }: { purpose: string }) => `A drive of this bench is in use by ${purpose}. Stop that first.`,
  },
  'bench-name-taken': {
    status: 409,
    sentence: ({ name }: { name: string }) => `There is a bench of the name ${name} already.`,
  },
  'bench-file-too-long': {
    status: 400,
    sentence: () => 'The file is too long for a bench. Nothing was taken from it.',
  },
  'thing-unknown': { status: 404, sentence: () => 'There is no such thing on the bench.' },
  'thing-of-move': {
    status: 409,
    sentence: ({ thing, move, customer }: { thing: string; move: string; customer: string }) =>
      `${thing} is part of a move: ${move}, ${customer}. It stays on the bench until that is handed over or given up.`,
  },
  'place-names-alike': {
    status: 400,
    sentence: ({ name, kind }: { name: string; kind: string }) =>
      `There are two places of the name ${name}; every ${kind} needs a name of its own.`,
  },
  'computer-with-lent': {
    status: 409,
    sentence: ({ computer, drive }: OfDrive & { computer: string }) =>
      `The ${drive} in the ${computer} is lent by another bench. Give it back before the computer stands elsewhere.`,
  },
  'bench-lends': {
    status: 409,
    sentence: ({ drive }: OfDrive) => `It lends the ${drive}. Give that back first.`,
  },
  'computer-there': {
    status: 409,
    sentence: ({ computer, bench }: { computer: string; bench: string }) =>
      `The ${computer} stands at ${bench}. Say that it stands here, or remove it, first.`,
  },
  'drive-unknown': { status: 404, sentence: () => 'There is no such drive on the bench.' },
  'drive-cuts-off': {
    status: 409,
    sentence: ({ drive, cut }: OfDrive & { cut: string }) =>
      `The ${drive} is in use by ${cut}. Pulling it now cuts that off; it can be resumed when the drive is back.`,
  },
  'drive-described-only': {
    status: 409,
    sentence: ({ drive }: OfDrive) => `The ${drive} is only described here; there are no bytes in it.`,
  },
  'drives-are-seen': {
    status: 409,
    sentence: () =>
      'The drives of this bench are those that are plugged into this computer. Plug one in, and it is here within a second.',
  },
  'thing-is-seen': {
    status: 409,
    sentence: () => 'This is seen as it is plugged into this computer, and comes and goes by itself.',
  },
  'bench-is-seen': {
    status: 409,
    sentence: () =>
      'This server shows the drives of this computer and no other bench. One with simulated drives is served without --devices, from another data folder.',
  },
  'computer-is-this': {
    status: 409,
    sentence: ({ computer }: Named) => `${computer} is the one that Imbarco runs on, so it stays.`,
  },
  'emulator-missing': {
    status: 409,
    sentence: () => 'No PC emulator is installed on this computer. The package qemu-system-x86 has one.',
  },
  'emulator-busy': {
    status: 409,
    sentence: ({ most }: { most: number }) => `No more than ${most} emulated computers run at a time. End one first.`,
  },
  'emulator-lent': {
    status: 409,
    sentence: ({ drive }: OfDrive) => `The ${drive} is lent by another bench; it is started in an emulator there.`,
  },
  'emulator-format': {
    status: 409,
    sentence: ({ image }: { image: string }) => `The emulator does not read images like ${image}.`,
  },
  'emulated-of-no-move': {
    status: 409,
    sentence: () => 'This drive is of no move, so there is no logbook for what was seen.',
  },
  'firmware-by-hand': {
    status: 409,
    sentence: ({ computer }: Named) =>
      `What the firmware of the ${computer} starts from is set there, in its settings. Nothing was changed.`,
  },
  'start-unseen': {
    status: 409,
    sentence: ({ computer }: Named) =>
      `The new drive is not plugged in here, so its start cannot be followed. Say what the ${computer} did, or plug the drive in again.`,
  },
  'start-is-followed': {
    status: 409,
    sentence: () => 'A start of this bench is followed on the bytes of the drives. Start the computer.',
  },
  'time-is-real': { status: 409, sentence: () => 'Time here is that of the clock: real drives take what they take.' },
  'drive-unplugged': {
    status: 409,
    sentence: ({ drive }: OfDrive) =>
      `The ${drive} is not plugged in. Plug it in again, wherever there is room for it.`,
  },
  'drive-seen-there': {
    status: 409,
    sentence: ({ drive, path }: OfDrive & { path: string }) =>
      `The ${drive} is still plugged in here, as ${path}. Take it out first: where it is, is seen.`,
  },
  'drive-not-here': {
    status: 409,
    sentence: ({ drive, state }: OfDrive & { state: string }) => `The ${drive} cannot be read: ${NOT_HERE[state]}.`,
  },
  'drive-not-lent': { status: 409, sentence: ({ drive }: OfDrive) => `The ${drive} is not lent by another bench.` },
  'drive-erased-there': {
    status: 409,
    sentence: ({ drive }: OfDrive) => `The bytes of the ${drive} are at the bench that lends it, where it is erased.`,
  },
  'borrow-refused': { status: 409, sentence: ({ why }: { why: string }) => why },
  'borrowed-already': {
    status: 409,
    sentence: ({ drive }: OfDrive) => `What is lent there is on this bench already: the ${drive}.`,
  },
  'borrow-asked': { status: 409, sentence: () => 'That is asked for already. Whoever sits there has to answer.' },
  'borrow-full': {
    status: 409,
    sentence: ({ most }: { most: number }) => `${most} are asked for already. Wait for an answer first.`,
  },
  'borrow-ended': { status: 404, sentence: () => 'That is not asked for any more.' },
  'drive-bytes-missing': {
    status: 409,
    sentence: ({ drive }: OfDrive) =>
      `The bytes of the ${drive} are missing from the data folder. Make the bench anew with "npm run demo -- --reset".`,
  },
  'drive-image-missing': {
    status: 409,
    sentence: ({ drive, image }: OfDrive & { image: string }) =>
      `The image ${image} that stands for the ${drive} is no longer in the images folder.`,
  },
  'drive-stays': { status: 409, sentence: ({ why }: { why: string }) => why },
  'drive-in-place': {
    status: 409,
    sentence: ({ drive, place }: OfDrive & { place: string }) => `The ${drive} is in ${place}. Take it out first.`,
  },
  'drive-would-not-fit': {
    status: 409,
    sentence: ({ drive, place, why }: OfDrive & { place: string; why: string }) =>
      `The ${drive} is in ${place} and would not go in any more. ${why}`,
  },
  'serial-taken': {
    status: 409,
    sentence: ({ drive }: OfDrive) => `The ${drive} has this serial already; a serial tells two drives apart.`,
  },
  'fault-behind-end': {
    status: 409,
    sentence: ({ lba, sectors }: { lba: number; sectors: number }) =>
      `Sector ${groupDigits(lba)} lies behind the end of the drive, which has ${groupDigits(sectors)}.`,
  },
  'lent-no-address': {
    status: 400,
    sentence: ({ address }: { address: string }) => `This computer has no address ${address} that it could lend at.`,
  },
  'lent-full': {
    status: 409,
    sentence: ({ most }: { most: number }) => `${most} are lent already. Stop lending one of them first.`,
  },
  'lent-already': { status: 409, sentence: () => 'It is lent already.' },
  'lent-failed': { status: 409, sentence: ({ why }: { why: string }) => why },
  'lent-image-as-target': {
    status: 409,
    sentence: () => 'An image is lent for reading. What is to be written is a drive, whose plate is typed.',
  },
  'lent-on': {
    status: 409,
    sentence: ({ drive }: OfDrive) => `The ${drive} is lent by another bench; only that one lends it.`,
  },
  'lent-unknown': { status: 404, sentence: () => 'That is not lent any more.' },
  'lent-nobody-asks': {
    status: 409,
    sentence: ({ peer }: { peer: string }) => `Nobody at ${peer} asks for it any more.`,
  },
  'lent-nobody-has': { status: 409, sentence: ({ peer }: { peer: string }) => `Nobody at ${peer} has it any more.` },
  'drive-not-connected': { status: 409, sentence: ({ drive }: OfDrive) => `The ${drive} is not connected.` },
  'drive-moved': {
    status: 409,
    sentence: ({ drive }: OfDrive) => `The ${drive} is no longer where it was. Nothing was written.`,
  },
  'plate-wrong': {
    status: 409,
    sentence: ({ drive }: OfDrive) => `These are not the last four characters on the ${drive}. Nothing was written.`,
  },
  'sector-unknown': {
    status: 400,
    sentence: ({ last, lba }: { last: number; lba: number }) =>
      `The drive has sectors 0 to ${last}; there is no sector ${lba}.`,
  },
  'file-unknown': {
    status: 404,
    sentence: ({ path }: { path: string }) => `There is no file ${path} on this volume.`,
  },

  'computer-unknown': { status: 404, sentence: () => 'There is no such computer on the bench.' },
  'computer-no-home-slot': {
    status: 400,
    sentence: ({ computer, slot }: Named & { slot: string }) =>
      `The ${computer} has no slot ${slot}, which is where it starts from.`,
  },
  'computer-in-use': {
    status: 409,
    sentence: ({ computer, purpose }: Named & { purpose: string }) =>
      `A drive in the ${computer} is in use by ${purpose}. Stop that first.`,
  },
  'computer-running': { status: 409, sentence: ({ computer }: Named) => `The ${computer} is running already.` },
  'computer-not-running': {
    status: 409,
    sentence: ({ computer }: Named) => `The ${computer} is not running its own system. Start it first.`,
  },
  'computer-no-mains': {
    status: 409,
    sentence: ({ computer }: Named) => `The ${computer} has no mains power. Plug it in first.`,
  },
  'computer-does-not-start': {
    status: 409,
    sentence: ({ link, found, why }: { link: string; found: string; why: string }) =>
      `It does not start. ${link}: ${found}. ${why}`.trimEnd(),
  },
  'computer-has-power': {
    status: 409,
    sentence: ({ computer }: Named) => `The ${computer} has power. Shut it down and pull its mains cable first.`,
  },
  'firmware-closed': {
    status: 409,
    sentence: ({ computer, key }: Named & { key: string }) =>
      `The firmware’s settings are opened at power-on with ${key}: shut the ${computer} down first.`,
  },
  'boot-entries-alike': { status: 400, sentence: () => 'Two boot entries have one number.' },
  'boot-entry-unknown': { status: 400, sentence: () => 'The boot order names an entry that does not exist.' },
  'drive-order-unknown': { status: 400, sentence: () => 'The drive order names a slot that does not exist.' },
  'program-unknown': { status: 404, sentence: () => 'There is no such program.' },

  'not-on-shelf': { status: 409, sentence: ({ drive }: OfDrive) => `The ${drive} is not on the shelf.` },
  'back-into-slot': { status: 400, sentence: () => 'A drive is put back into a slot of a computer.' },
  'drive-built-in': {
    status: 409,
    sentence: ({ drive }: OfDrive) =>
      `The ${drive} is built into its computer, so it stays in beside the new drive. The move has to say so.`,
  },
  'erase-off-shelf': {
    status: 409,
    sentence: ({ drive }: OfDrive) => `The ${drive} is not on the shelf. Only what was set aside is erased.`,
  },
  'erase-computer-off': {
    status: 409,
    sentence: ({ drive, computer }: OfDrive & { computer: string }) =>
      `The ${drive} is in the ${computer}, which is off. Start that from its new drive or from the rescue stick first.`,
  },
  'erase-running': {
    status: 409,
    sentence: ({ drive, computer }: OfDrive & { computer: string }) =>
      `The ${computer} would start from the ${drive} as things are, so it may be running from it. Have it start from another drive first, or run it from the rescue stick.`,
  },
  'drive-forgets-nothing': {
    status: 409,
    sentence: ({ drive }: OfDrive) =>
      `The ${drive} does not promise to forget what it is told to. Have zeros written over it instead.`,
  },
  'no-data-volume': { status: 409, sentence: ({ why }: { why: string }) => why },
  'erase-way-back': {
    status: 409,
    sentence: ({ drive, move }: OfDrive & { move: string }) =>
      `The ${drive} is the way back of a move that is not handed over: ${move}. Nothing was written.`,
  },
  'erase-early': {
    status: 409,
    sentence: ({ until }: { until: string | null }) =>
      `${until ? `It is kept until ${until}` : 'It has no day from which it may be erased'}. To erase it before that, say in a few words why. Nothing was written.`,
  },
})
