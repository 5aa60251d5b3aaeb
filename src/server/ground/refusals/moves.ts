import { formatLimit, formatSize } from '@/core/bytes/size'
import { refusals } from './define'

export const MOVES = refusals({
  'move-unknown': { status: 404, sentence: () => 'There is no such move.' },
  'move-incomplete': { status: 409, sentence: ({ why }: { why: string }) => why },
  'move-contradicts-itself': { status: 400, sentence: ({ why }: { why: string }) => why },
  'move-blocked': { status: 409, sentence: ({ why }: { why: string }) => why },
  'move-busy': {
    status: 409,
    sentence: ({ job }: { job: string }) => `Wait until it has ended: ${job}.`,
  },
  'move-given-up': {
    status: 409,
    sentence: () => 'This move was given up. Open a new one for the same computer.',
  },
  'move-put-off': { status: 409, sentence: () => 'This move was put off. Take it up again first.' },
  'move-not-put-off': { status: 409, sentence: () => 'This move was not put off.' },
  'move-handed-over': { status: 409, sentence: () => 'This move was handed over, so it has come to its end.' },
  'move-name-in-use': {
    status: 409,
    sentence: () => 'The copy has marked its target with this name. Rename the move when the copy is done.',
  },
  'drive-reserved': { status: 409, sentence: ({ why }: { why: string }) => why },
  'source-is-target': {
    status: 409,
    sentence: ({ drive, move, customer }: { drive: string; move: string; customer: string }) =>
      `The ${drive} is written to by another move: ${move}, ${customer}. It cannot be a source.`,
  },
  'drive-not-of-move': { status: 404, sentence: () => 'There is no such drive in this move.' },

  'fit-keeps-identity': {
    status: 409,
    sentence: () =>
      'Two of a series may meet in one computer, so each needs new identities for the drive and all on it.',
  },
  'series-unknown': { status: 404, sentence: () => 'There is no such series.' },
  'series-contradicts-itself': { status: 400, sentence: ({ why }: { why: string }) => why },
  'series-source-elsewhere': {
    status: 409,
    sentence: ({ drive, place }: { drive: string; place: string }) =>
      `The ${drive} is ${place}. A series is made from a drive in a bay, where it stays until the last computer has its own; put it into one first.`,
  },
  'series-not-prepared': { status: 409, sentence: ({ why }: { why: string }) => why },
  'series-no-bay': {
    status: 409,
    sentence: ({ drive }: { drive: string }) =>
      `No route writes the ${drive} in a bay: none that takes it is on the bench, or another drive is in it. Free one, and try again.`,
  },
  'series-not-a-member': { status: 404, sentence: () => 'This computer is not one of the series.' },
  'series-nothing-failed': {
    status: 409,
    sentence: () => 'Its copy has not failed, so there is nothing to set aside.',
  },

  'no-intake': { status: 409, sentence: () => 'Finish Intake first.' },
  'nothing-to-measure': {
    status: 409,
    sentence: () => 'No drive of this move is connected, so there is nothing to measure.',
  },
  'no-survey': { status: 409, sentence: () => 'Read the drives in Survey first.' },
  'survey-unconfirmed': { status: 409, sentence: () => 'Finish Survey first.' },
  'no-route': { status: 409, sentence: () => 'Choose a route first.' },
  'route-gone': {
    status: 409,
    sentence: () => 'This route does not work any more: something on the bench has changed. Choose another one.',
  },
  'route-target-taken': {
    status: 409,
    sentence: ({ drive, move }: { drive: string; move: string }) =>
      `The ${drive} is the target of another move, ${move}. One of the two needs another drive.`,
  },
  'leg-drive-unread': {
    status: 409,
    sentence: () => 'The drive on the way was not read when the route was chosen. Choose the route again.',
  },
  'leg-does-not-fit': { status: 409, sentence: ({ why }: { why: string }) => why },
  'copy-image-stays': {
    status: 409,
    sentence: () => 'What an image lost is not read once more. Copy it anew, or read it from the image as it is.',
  },
  'first-start-order': {
    status: 409,
    sentence: ({ step, waits }: { step: string; waits: string }) => `“${step}” comes later: ${waits}.`,
  },
  'machine-memory-range': { status: 400, sentence: () => 'The least memory is more than the most.' },
  'machine-beyond-host': {
    status: 409,
    sentence: ({ host }: { host: string }) => `The ${host} has less memory or fewer processors than that.`,
  },
  'network-twin': {
    status: 409,
    sentence: ({ computer, twin }: { computer: string; twin: string }) =>
      `The ${twin} runs on the network with the same name and address as the ${computer} would. Switch one of them off, or keep its network card unconnected.`,
  },
  'machine-runs': {
    status: 409,
    sentence: ({ computer }: { computer: string }) =>
      `Shut the ${computer} down first: its memory and processors are given to it when it starts.`,
  },
  'machine-cards-alike': { status: 400, sentence: () => 'Two network cards have one name.' },
  'computer-not-virtual': {
    status: 409,
    sentence: ({ computer }: { computer: string }) => `The ${computer} is no virtual machine.`,
  },
  'machine-gone': {
    status: 409,
    sentence: () => 'The virtual machine of this move is no longer on the bench. Choose the route again.',
  },
  'leg-store-gone': { status: 409, sentence: () => 'What an image of this leg lies on is no longer on the bench.' },
  'leg-image-unknown': {
    status: 409,
    sentence: () => 'No leg before this one makes the image that it reads. Choose the route again.',
  },
  'leg-image-differs': {
    status: 409,
    sentence: ({ image }: { image: string }) =>
      `${image} does not hold the partitions that were read of the drive, so the fit is not one for it. Take a route that reads the drive.`,
  },
  'route-no-volume': {
    status: 409,
    sentence: ({ drive }: { drive: string }) => `No volume of the ${drive} takes an image now. Choose another route.`,
  },
  'leg-drive-gone': { status: 409, sentence: () => 'A drive of this leg is no longer on the bench.' },
  'no-locked-fit': {
    status: 409,
    sentence: () => 'There is no locked fit to copy by. Lock it in Fit first.',
  },
  'fit-does-not-fit': { status: 409, sentence: ({ why }: { why: string }) => why },
  'fit-disk-beyond-format': {
    status: 409,
    sentence: ({ format, mostBytes, diskBytes }: { format: string; mostBytes: number; diskBytes: number }) =>
      `A ${format} holds at most ${formatLimit(mostBytes)}, and this disk would have ${formatSize(diskBytes)}.`,
  },
  'room-not-here': {
    status: 409,
    sentence: () => 'Room is made only on a drive that was read, and for one system that goes into it.',
  },
  'room-made': { status: 409, sentence: () => 'Room was made already. It can be given back first.' },
  'room-not-made': { status: 409, sentence: () => 'No room was made that could be given back.' },
  'room-drive-runs': {
    status: 409,
    sentence: ({ drive, computer }: { drive: string; computer: string }) =>
      `The ${computer} runs its system, which may be using the ${drive}. Shut it down first.`,
  },
  'fit-drives-changed': { status: 409, sentence: ({ why }: { why: string }) => why },

  'nothing-in-the-way': { status: 409, sentence: () => 'Nothing of that kind stands in the way.' },
  'cannot-be-skipped': {
    status: 409,
    sentence: ({ item }: { item: string }) => `${item} This cannot be skipped.`,
  },
  'no-copying-computer': { status: 409, sentence: () => 'No computer of this move does the copying.' },
  'choice-not-possible': { status: 409, sentence: ({ why }: { why: string }) => why },
  'not-ready': {
    status: 409,
    sentence: ({ item, why }: { item: string; why: string }) =>
      `It cannot start yet: ${item} ${why}. Nothing was written.`,
  },
  'not-ready-to-resume': {
    status: 409,
    sentence: ({ item, why }: { item: string; why: string }) =>
      `It cannot be resumed yet: ${item} ${why}. Nothing was written.`,
  },

  'copy-running': {
    status: 409,
    sentence: () => 'The copy of this move is running. Stop it first, or wait for its end.',
  },
  'copy-done': { status: 409, sentence: () => 'The copy is done; what it was made from stays as it is.' },
  'copy-running-already': { status: 409, sentence: () => 'This copy is running already.' },
  'copy-not-running': { status: 409, sentence: () => 'No copy of this move is running.' },
  'copy-all-done': { status: 409, sentence: () => 'All legs of this move are copied. It is not copied again.' },
  'copy-source-is-target': {
    status: 409,
    sentence: () => 'Source and target are the same drive. Nothing was written.',
  },
  'copy-drives-changed': {
    status: 409,
    sentence: () =>
      'The drives are not as they were when you typed from the label. Look at the list and at the label again. Nothing was written.',
  },
  'copy-not-resumable': {
    status: 409,
    sentence: () => 'There is no copy of this move that could be resumed.',
  },
  'copy-target-gone': {
    status: 409,
    sentence: () => 'A drive that this copy writes is no longer on the bench. Start the copy over.',
  },
  'copy-no-thread': {
    status: 409,
    sentence: () => 'The copy could not be started: this computer gave it no thread. Nothing was written.',
  },
  'copy-no-system': { status: 409, sentence: () => 'There is no system that runs from this drive.' },
  'copy-lost-nothing': { status: 409, sentence: () => 'This copy lost nothing.' },
  'copy-drives-moved-since': {
    status: 409,
    sentence: () => 'The drives were moved since this copy; lost sectors are read again before the swap.',
  },
  'leg-not-copied': { status: 404, sentence: () => 'This leg is not copied.' },

  'swap-before-fit': { status: 409, sentence: () => 'Lock a fit first; nothing is taken apart before.' },
  'swap-before-copy': {
    status: 409,
    sentence: () => 'The copy is not done, so nothing is taken apart yet.',
  },
  'swap-all-done': { status: 409, sentence: () => 'All steps are done.' },
  'swap-before-start': {
    status: 409,
    sentence: ({ step }: { step: string }) =>
      `The case is closed once it has started from the new drive: ${step} comes then.`,
  },
  'swap-other-step': { status: 409, sentence: ({ step }: { step: string }) => `The next step is: ${step}.` },
  'swap-screws-left': {
    status: 409,
    sentence: ({ ticked, of, way }: { ticked: number; of: number; way: string }) =>
      `${ticked} of ${of} screws are ${way}. Tick the ${of - ticked === 1 ? 'one that is' : `${of - ticked} that are`} left.`,
  },
  'swap-no-screws': { status: 400, sentence: () => 'This step has no such screws.' },
  'swap-nothing-to-untick': { status: 409, sentence: () => 'There is no step that could be unticked.' },
  'swap-before-unknown': {
    status: 409,
    sentence: () => 'What the bench was like before this step was not kept. Put it right on the Bench page.',
  },
  'swap-running': {
    status: 409,
    sentence: ({ computer }: { computer: string }) =>
      `The ${computer} is running. Shut it down before you reach into it.`,
  },
  'swap-mains-in': {
    status: 409,
    sentence: ({ computer }: { computer: string }) =>
      `The mains cable of the ${computer} is in again. Pull it before you reach into it.`,
  },
  'swap-battery-in': {
    status: 409,
    sentence: ({ computer }: { computer: string }) =>
      `The battery of the ${computer} is plugged in, so the board is live. Unplug it first.`,
  },
  'swap-twins': {
    status: 409,
    sentence: ({ drive, twin, computer }: { drive: string; twin: string; computer: string }) =>
      `The ${drive} and the ${twin} are both in the ${computer} and carry one identity. Take the old one out and set it aside before it gets power.`,
  },

  'no-machine': { status: 409, sentence: () => 'The virtual machine is made when its route is taken.' },
  'computer-being-copied': {
    status: 409,
    sentence: () => 'A copy is reading this computer’s drive; it cannot be started now.',
  },
  'proof-twins': {
    status: 409,
    sentence: (p: { drive: string; place: string; twin: string; computer: string }) =>
      `The ${p.drive} in the ${p.place} carries the same identity as the ${p.twin}. Set it aside before the ${p.computer} is started: a system that finds both may give its letters to the wrong one.`,
  },
  'nothing-turned-off': { status: 409, sentence: () => 'Everything that was turned off is on again.' },
  'repair-before-trial': {
    status: 409,
    sentence: () => 'Only the new drive is repaired, after it was copied to and started once.',
  },
  'repair-nothing-to-change': { status: 409, sentence: () => 'The drive shows nothing that this would change.' },
  'repair-shown-only': { status: 409, sentence: ({ why }: { why: string }) => `It is not repaired here. ${why}` },
  'repair-none-to-undo': { status: 409, sentence: () => 'There is no repair that could be undone.' },
  'repair-journal-gone': {
    status: 409,
    sentence: () => 'The journal of this repair is gone, so it cannot be undone.',
  },
  'repair-not-possible': { status: 409, sentence: ({ why }: { why: string }) => why },
  'old-drive-in-place': {
    status: 409,
    sentence: () => 'The old drive is where it was; there is nothing to go back to.',
  },
  'handover-before-proof': {
    status: 409,
    sentence: () => 'It is handed over when the last trial started from the new drive and every check passed.',
  },
  'handover-before-swap': {
    status: 409,
    sentence: ({ step }: { step: string }) => `Something is left for the hands. Next in Swap: ${step}.`,
  },
  'sheet-before-proof': {
    status: 404,
    sentence: () => 'There is no sheet before the computer has started from its new drive.',
  },
})
