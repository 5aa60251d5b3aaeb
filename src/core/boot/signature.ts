import { defineStruct, viewOf } from '../bytes/struct'
import { type Digest, toHex } from '../digest'
import type { Firmware } from './types'

// Signatures of loader files. A loader is a PE image (Microsoft PE/COFF specification, revision 11): its certificate
// table lies behind the image, and the image's digest leaves out the checksum, the entry that names the table, and the
// table. The certificates of this bench are simulated: they name their signer and that digest, and nobody's key made them.

const CERTIFICATE = defineStruct('certificate of a PE image', 8, {
  length: [0, 'u32'],
  revision: [4, 'u16'],
  type: [6, 'u16'],
})
const REVISION_2 = 0x0200
/** Types from here on are free for private use; 2 is PKCS #7, which real loaders carry. */
const SIMULATED = 0xfe5a

/** `held`: the signer's digest is that of the image. `foreign`: signed in a way that is not checked here. */
export type Signature =
  | { readonly state: 'none' }
  | { readonly state: 'foreign' }
  | { readonly state: 'held' | 'broken'; readonly signer: string }

/** Where the parts of a PE image lie that its digest leaves out; undefined for bytes that are none. */
function partsOf(bytes: Uint8Array) {
  const view = viewOf(bytes)
  if (bytes.length < 64 || view.getUint16(0, true) !== 0x5a4d) return undefined
  const header = view.getUint32(60, true)
  if (header + 24 + 112 > bytes.length || view.getUint32(header, true) !== 0x4550) return undefined
  const optional = header + 24
  const magic = view.getUint16(optional, true)
  if (magic !== 0x10b && magic !== 0x20b) return undefined
  // The fifth data directory names the certificate table, by its offset in the file.
  const directories = optional + (magic === 0x20b ? 112 : 96)
  const entry = directories + 4 * 8
  if (entry + 8 > bytes.length || view.getUint32(directories - 4, true) < 5) return undefined
  return { checksum: optional + 64, entry, at: view.getUint32(entry, true), length: view.getUint32(entry + 4, true) }
}

function imageDigest(bytes: Uint8Array, checksum: number, entry: number, end: number, digest: Digest): string {
  const image = bytes.slice(0, end)
  image.fill(0, checksum, checksum + 4)
  image.fill(0, entry, entry + 8)
  return toHex(digest(image))
}

/** Who signed a loader, and whether what was signed is what is there. */
export function readSignature(bytes: Uint8Array, digest: Digest): Signature {
  const parts = partsOf(bytes)
  if (!parts || parts.at === 0 || parts.length < CERTIFICATE.size || parts.at + parts.length > bytes.length)
    return { state: 'none' }
  const { length, type } = CERTIFICATE.read(bytes, parts.at)
  if (type !== SIMULATED || length < CERTIFICATE.size || length > parts.length) return { state: 'foreign' }
  const text = new TextDecoder().decode(bytes.subarray(parts.at + CERTIFICATE.size, parts.at + length))
  const [signer = '', signed = ''] = text.replace(/\0+$/, '').split('\n')
  if (signer === '' || signer.length > 80) return { state: 'foreign' }
  const found = imageDigest(bytes, parts.checksum, parts.entry, parts.at, digest)
  return { state: found === signed ? 'held' : 'broken', signer }
}

/** What Secure Boot makes of a loader, with words of what was found and, where it refuses it, why. */
export type Judgement =
  | { readonly accepts: true; readonly found: string }
  | { readonly accepts: false; readonly found: string; readonly why: string }
  /** It is checked against keys that are not here. */
  | { readonly accepts: undefined; readonly found: string; readonly why: string }

/** What a computer's Secure Boot makes of a loader that is signed so. */
export function judgeSignature(
  { secureBoot, trustedSigners }: Pick<Firmware, 'secureBoot' | 'trustedSigners'>,
  signature: Signature,
): Judgement {
  const by = 'signer' in signature ? `signed by “${signature.signer}”` : ''
  if (!secureBoot) return { accepts: true, found: by || 'Secure Boot does not ask for a signature' }
  const refuses = (found: string, why: string) => ({ accepts: false as const, found, why })
  if (signature.state === 'foreign')
    return {
      accepts: undefined,
      found: 'signed in a way that is not checked here',
      why: 'Firmware checks it against its own keys, which are not here.',
    }
  if (signature.state === 'none')
    return refuses('it is not signed', 'With Secure Boot on, firmware starts signed loaders only.')
  if (signature.state === 'broken')
    return refuses(
      'its signature does not hold',
      'Its bytes are not those that were signed. The file was changed or damaged after that.',
    )
  if (!trustedSigners.includes(signature.signer))
    return refuses(
      'its signer is not trusted',
      `The firmware trusts ${trustedSigners.map((s) => `“${s}”`).join(' and ') || 'nobody'}. What it trusts is in its settings.`,
    )
  return { accepts: true, found: `${by}, which the firmware trusts` }
}

/** A loader with this code, signed; without a signer it is left unsigned. */
export function makeLoader(code: Uint8Array, signer: string | undefined, digest: Digest): Uint8Array {
  const head = 0x40
  const codeAt = 0x200
  const end = codeAt + Math.ceil(code.length / 8) * 8
  const image = new Uint8Array(end)
  const view = viewOf(image)
  view.setUint16(0, 0x5a4d, true)
  view.setUint32(60, head, true)
  view.setUint32(head, 0x4550, true)
  view.setUint16(head + 4, 0x8664, true)
  view.setUint16(head + 20, 240, true)
  view.setUint16(head + 24, 0x20b, true)
  // An application that firmware starts.
  view.setUint16(head + 24 + 68, 10, true)
  view.setUint32(head + 24 + 108, 16, true)
  image.set(code, codeAt)
  if (signer === undefined) return image
  const { checksum, entry } = partsOf(image)!
  const text = new TextEncoder().encode(`${signer}\n${imageDigest(image, checksum, entry, end, digest)}`)
  const length = CERTIFICATE.size + text.length
  const signed = new Uint8Array(end + Math.ceil(length / 8) * 8)
  signed.set(image)
  CERTIFICATE.write(signed, { length, revision: REVISION_2, type: SIMULATED }, end)
  signed.set(text, end + CERTIFICATE.size)
  viewOf(signed).setUint32(entry, end, true)
  viewOf(signed).setUint32(entry + 4, signed.length - end, true)
  return signed
}
