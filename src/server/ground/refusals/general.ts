import { refusals } from './define'

export const GENERAL = refusals({
  'request-too-long': { status: 400, sentence: () => 'The request is too long. Nothing was changed.' },
  'request-not-json': { status: 400, sentence: () => 'The request is not valid JSON. Nothing was changed.' },
  'address-malformed': {
    status: 400,
    sentence: () => 'The address is malformed. Nothing was changed.',
  },
  'request-too-deep': {
    status: 400,
    sentence: () => 'In the request, lists or objects lie too deep in each other.',
  },
  'text-malformed': {
    status: 400,
    sentence: () => 'There is a character in the request that no name has.',
  },
  'host-foreign': {
    status: 421,
    sentence: () => 'This server answers only to its own name. Open it as http://127.0.0.1 with its port.',
  },
  'site-foreign': {
    status: 403,
    sentence: () => 'Changes are taken only from Imbarco’s own pages. Nothing was changed.',
  },
  'passphrase-needed': {
    status: 401,
    sentence: () => 'This bench is locked. Open its pages and type the passphrase.',
  },
  'passphrase-length': {
    status: 400,
    sentence: ({ shortest, longest }: { shortest: number; longest: number }) =>
      `A passphrase has ${shortest} to ${longest} characters. The one before, if any, still holds.`,
  },
  'passphrase-tries': {
    status: 429,
    sentence: () => 'Too many passphrases were tried. Wait a minute, then try again.',
  },
  'passphrase-unreadable': {
    status: 403,
    sentence: () => 'The file with the passphrase cannot be read. Set it anew with "npm run passphrase".',
  },
  'passphrase-wrong': { status: 403, sentence: () => 'That is not the passphrase.' },
  'job-unknown': { status: 404, sentence: () => 'There is no such job.' },
  'job-not-running': { status: 409, sentence: () => 'This is not running any more.' },
  'job-unstoppable': {
    status: 409,
    sentence: ({ job }: { job: string }) => `${job}: this cannot be stopped half way. Wait for its end.`,
  },
  'in-use': {
    status: 409,
    sentence: ({ thing, purpose }: { thing: string; purpose: string }) =>
      `${thing} is in use by ${purpose}. Nothing was written.`,
  },
  'same-bytes': {
    status: 409,
    sentence: ({ thing, other }: { thing: string; other: string }) =>
      `${thing} and ${other} are the same bytes. Nothing was written.`,
  },
})
