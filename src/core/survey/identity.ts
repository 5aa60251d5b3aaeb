import type { DriveSurvey } from './types'

/** What a disk is told apart by: the GUID of a GPT, the signature of an MBR. Undefined where neither reads. */
export function diskIdentity({
  scheme,
  table,
  mbr,
}: Pick<DriveSurvey, 'scheme' | 'table' | 'mbr'>): string | undefined {
  if (scheme === 'gpt') return table?.diskGuid
  // A signature of zeros is none.
  return scheme === 'mbr' && mbr && !/^0*$/.test(mbr.diskSignature) ? mbr.diskSignature : undefined
}
