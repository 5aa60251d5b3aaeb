import { hasText, viewOf } from '../bytes/struct'
import { BadStructure, CoreError } from '../errors'
import type { Finding } from '../findings'
import { fileReader } from './file-reader'
import { type ImageFile, type ImageFormat, type NewBlock, type OpenedImage, type OpenOptions, readFrom } from './port'
import { withSectors } from './sectors'
import { BlockMappedDevice, type Locator } from './block-mapped'
import {
  BLOCK_BYTES,
  checksumOf,
  FOOTER,
  FOOTER_COOKIE,
  HEADER,
  HEADER_COOKIE,
  LOCATOR,
  LOCATORS_OFFSET,
  TYPE,
  UNUSED,
} from './vhd-layout'

/** VHD: fixed, dynamic and differencing. */
export const vhd: ImageFormat = {
  kind: 'vhd',
  async recognise(file) {
    if (file.size < 512) return false
    const head = await readFrom(file, 0, 512, 'image')
    if (hasText(head, 0, FOOTER_COOKIE)) return true
    return hasText(await readFrom(file, file.size - 512, 512, 'image'), 0, FOOTER_COOKIE)
  },
  open: openVhd,
}

/** A table of more bytes would have blocks far smaller than any program makes. */
const MAX_TABLE_BYTES = 64 * 1024 * 1024

type Footer = ReturnType<typeof FOOTER.read>

async function openVhd(file: ImageFile, options: OpenOptions): Promise<OpenedImage> {
  const { footer, findings } = await readFooter(file)
  const size = Math.floor(footer.currentSize / 512) * 512
  const bad = (why: string) => new BadStructure('VHD footer', file.size - 512, why)
  if (size === 0 || size > 64 * 1024 ** 4) throw bad(`it gives the disk ${footer.currentSize} bytes`)
  const common = { kind: 'vhd' as const, virtualBytes: size, identity: footer.uuid, findings }
  const read = fileReader(file)
  // The format counts in 512 bytes whatever the disk's own sectors are.
  const sized = (parts: ConstructorParameters<typeof BlockMappedDevice>[2]) =>
    withSectors(
      (sector) => new BlockMappedDevice(Math.floor(size / sector) * sector, sector, parts),
      options.sectorSize,
    )
  if (footer.type === TYPE.fixed) {
    if (size > file.size) throw bad(`the disk has ${size} bytes and the file only ${file.size}`)
    const locate: Locator = async (offset, length) => ({ length, source: { from: 'file', offset } })
    return {
      ...common,
      name: 'VHD, fixed',
      device: await sized({ locate, read, unitBytes: size, file }),
    }
  }
  if (footer.type !== TYPE.dynamic && footer.type !== TYPE.differencing) throw bad(`it names the type ${footer.type}`)
  const headerAt = Number(footer.dataOffset)
  const bytes = await readFrom(file, headerAt, HEADER.size, 'VHD dynamic header')
  const header = HEADER.read(bytes)
  const wrong = (why: string) => new BadStructure('VHD dynamic header', headerAt, why)
  if (header.cookie !== HEADER_COOKIE) throw wrong('it does not carry its mark')
  if (checksumOf(bytes, 36) !== header.checksum) throw wrong('it fails its checksum')
  const { blockSize, tableEntries, tableOffset } = header
  if (blockSize < 4096 || blockSize > 256 * 1024 * 1024 || !Number.isInteger(Math.log2(blockSize))) {
    throw wrong(`it gives blocks of ${blockSize} bytes`)
  }
  const blocks = Math.ceil(size / blockSize)
  if (tableEntries < blocks) throw wrong(`its table has ${tableEntries} entries and the disk ${blocks} blocks`)
  if (blocks * 4 > MAX_TABLE_BYTES) throw wrong(`it divides the disk into ${blocks} blocks`)
  const table = viewOf(await readFrom(file, tableOffset, blocks * 4, 'VHD block table'))
  const bitmapBytes = Math.ceil(blockSize / 512 / 8 / 512) * 512
  const differencing = footer.type === TYPE.differencing
  const parent = differencing ? await openParent(file, header, bytes, options) : undefined
  let bitmap: { block: number; bytes: Uint8Array } | undefined

  const locate: Locator = async (offset, length) => {
    const block = Math.floor(offset / blockSize)
    const within = offset - block * blockSize
    const rest = Math.min(length, blockSize - within)
    const sector = table.getUint32(block * 4)
    if (sector === UNUSED) return { length: rest, source: { from: differencing ? 'parent' : 'zeros' } }
    const at = sector * 512
    const data = at + bitmapBytes + within
    if (data + rest > file.size) {
      throw new BadStructure(
        'VHD block table',
        tableOffset + block * 4,
        `block ${block} lies behind the end of the file`,
      )
    }
    if (!differencing) return { length: rest, source: { from: 'file', offset: data } }
    if (bitmap?.block !== block) bitmap = { block, bytes: await readFrom(file, at, bitmapBytes, 'VHD block') }
    // Highest bit first: set where this file holds the sector, clear where the parent does.
    const has = (index: number) => (bitmap!.bytes[index >> 3] >> (7 - (index & 7))) & 1
    const first = within / 512
    const here = has(first)
    let sectors = 1
    while (sectors * 512 < rest && has(first + sectors) === here) sectors++
    const stretch = Math.min(rest, sectors * 512)
    return { length: stretch, source: here ? { from: 'file', offset: data } : { from: 'parent' } }
  }
  return {
    ...common,
    name: differencing ? 'VHD, differencing' : 'VHD, dynamic',
    ...(parent ? { parent: parent.name, findings: [...findings, ...parent.image.findings] } : {}),
    ...(differencing ? {} : { newBlock: newBlockOf(tableOffset, blockSize, bitmapBytes) }),
    device: await sized({ locate, read, unitBytes: BLOCK_BYTES, parent: parent?.image.device }),
  }
}

function newBlockOf(tableOffset: number, blockBytes: number, bitmapBytes: number): NewBlock {
  return {
    blockBytes,
    alignBytes: 4096,
    // All sectors of the block are in this file.
    head: new Uint8Array(bitmapBytes).fill(0xff),
    tailBytes: FOOTER.size,
    entry(offset, place) {
      const bytes = new Uint8Array(4)
      viewOf(bytes).setUint32(0, (place - bitmapBytes) / 512)
      return { at: tableOffset + Math.floor(offset / blockBytes) * 4, bytes }
    },
  }
}

/** The footer at the end, or its copy at the start where the end was lost. */
async function readFooter(file: ImageFile): Promise<{ footer: Footer; findings: Finding[] }> {
  const last = file.size >= 512 ? file.size - 512 : 0
  const problems: string[] = []
  for (const at of [last, 0]) {
    const bytes = await readFrom(file, at, 512, 'VHD footer')
    if (!hasText(bytes, 0, FOOTER_COOKIE)) {
      problems.push(`nothing at byte ${at}`)
      continue
    }
    const { checksum } = FOOTER.read(bytes)
    if (checksumOf(bytes, 64) !== checksum) {
      problems.push(`a wrong checksum at byte ${at}`)
      continue
    }
    const footer = FOOTER.read(bytes)
    if (at === 0 && footer.type === TYPE.fixed) continue
    const findings: Finding[] = []
    if (at === 0 && last !== 0) {
      findings.push({
        severity: 'damage',
        code: 'image.vhd-footer-lost',
        sentence:
          'The footer at the end of the image is lost; its copy at the start was used. The file may have been cut short.',
        evidence: problems.join(', '),
      })
    }
    return { footer, findings }
  }
  throw new BadStructure('VHD footer', last, problems.join(', and ') || 'it is missing')
}

async function openParent(
  file: ImageFile,
  header: ReturnType<typeof HEADER.read>,
  bytes: Uint8Array,
  options: OpenOptions,
): Promise<{ name: string; image: OpenedImage }> {
  const names: string[] = []
  for (let i = 0; i < 8; i++) {
    const { code, length, offset } = LOCATOR.read(bytes, LOCATORS_OFFSET + i * LOCATOR.size)
    if ((code !== 'W2ru' && code !== 'W2ku') || length === 0 || length > 4096) continue
    const text = new TextDecoder('utf-16le').decode(await readFrom(file, offset, length, 'VHD parent locator'))
    if (code === 'W2ru') names.unshift(text.replace(/\0.*$/, ''))
    else names.push(text.replace(/\0.*$/, ''))
  }
  names.push(new TextDecoder('utf-16be').decode(header.parentName).replace(/\0.*$/s, ''))
  const image = await options.openParent({ names: names.filter(Boolean), identity: header.parentUuid, format: 'vhd' })
  if (image.identity !== undefined && image.identity !== header.parentUuid) {
    throw new CoreError(
      `The image that this one builds on is not the one it was made from: it is ${image.identity}, and ${header.parentUuid} was expected.`,
    )
  }
  return { name: names.find(Boolean) ?? '', image }
}
