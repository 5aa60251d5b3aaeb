import { open } from 'node:fs/promises'
// A checker of NTFS volumes that shares nothing with the program: written from the public description of the format,
// it walks all records and holds them against each other, the map of clusters, the mirror and the directories.

/** Bytes of a volume, from any offset. */
export type ReadVolume = (offset: number, length: number) => Promise<Uint8Array>

interface CheckedAttribute {
  type: number
  name: string
  id: number
  record: number
  resident?: Uint8Array
  lowestVcn: number
  runs: { lcn: number; length: number }[]
  clusters: number
  sizes: [allocated: number, data: number, initialized: number]
}

interface CheckedRecord {
  number: number
  sequence: number
  flags: number
  base: number
  baseSequence: number
  attributes: CheckedAttribute[]
}

const [LIST, FILE_NAME, DATA, INDEX_ROOT, INDEX_ALLOCATION, BITMAP] = [0x20, 0x30, 0x80, 0x90, 0xa0, 0xb0]
const MOST_PROBLEMS = 40

/** Everything that is wrong with a volume, a sentence each; empty for a sound one. */
export async function checkNtfs(read: ReadVolume): Promise<string[]> {
  const problems: string[] = []
  const say = (problem: string) => {
    if (problems.length < MOST_PROBLEMS) problems.push(problem)
  }
  const boot = view(await read(0, 512))
  const sectorSize = boot.getUint16(11, true)
  const perCluster = boot.getUint8(13) > 0x80 ? 2 ** (256 - boot.getUint8(13)) : boot.getUint8(13)
  const cluster = sectorSize * perCluster
  const sectors = Number(boot.getBigUint64(40, true))
  const clusters = Math.floor(sectors / perCluster)
  const sized = (value: number) => (value < 0 ? 2 ** -value : value * cluster)
  const recordSize = sized(boot.getInt8(64))
  const mftLcn = Number(boot.getBigUint64(48, true))
  const mirrorLcn = Number(boot.getBigUint64(56, true))
  const copy = await read(sectors * sectorSize, 512)
  if (!same(new Uint8Array(boot.buffer, boot.byteOffset, 512), copy)) say('the copy of the boot sector differs')

  const readRuns = async (runs: CheckedAttribute['runs'], offset: number, length: number) => {
    const out = new Uint8Array(length)
    let start = 0
    for (const run of runs) {
      const end = start + run.length * cluster
      const [from, to] = [Math.max(start, offset), Math.min(end, offset + length)]
      if (from < to && run.lcn >= 0) out.set(await read(run.lcn * cluster + from - start, to - from), from - offset)
      start = end
    }
    return out
  }
  const valueOf = async (parts: readonly CheckedAttribute[]) => {
    const [first] = parts
    if (first.resident) return first.resident
    const bytes = await readRuns(
      parts.flatMap((p) => p.runs),
      0,
      first.sizes[1],
    )
    return bytes.fill(0, Math.min(bytes.length, first.sizes[2]))
  }

  // The file table: its first record, then those that go on with its run list.
  const first = parseRecord(0, await read(mftLcn * cluster, recordSize), say)
  if (!first) return [...problems, 'the first record of the file table does not hold']
  const tableRuns: CheckedAttribute['runs'] = []
  const addTable = (a: CheckedAttribute) => {
    if (a.lowestVcn !== total(tableRuns)) say(`the file table has a gap at cluster ${total(tableRuns)} of it`)
    tableRuns.push(...a.runs)
  }
  const isTable = (a: CheckedAttribute) => a.type === DATA && a.name === ''
  first.attributes.filter(isTable).forEach(addTable)
  const tableBytes = first.attributes.find(isTable)!.sizes[1]
  const tableList = first.attributes.find((a) => a.type === LIST)
  if (tableList) {
    const entries = parseList(await valueOf([tableList]))
    for (const entry of entries.filter((e) => e.type === DATA && e.name === '' && e.record !== 0)) {
      if ((entry.record + 1) * recordSize > total(tableRuns) * cluster) {
        say(`the file table needs record ${entry.record} to find record ${entry.record}`)
        return problems
      }
      const part = parseRecord(
        entry.record,
        await readRuns(tableRuns, entry.record * recordSize, recordSize),
        say,
      )?.attributes.find((a) => isTable(a) && a.id === entry.id)
      if (part) addTable(part)
      else say(`record ${entry.record} lacks its part of the file table`)
    }
  }
  if (total(tableRuns) * cluster < tableBytes) say('the file table is shorter than it says')

  const records = new Map<number, CheckedRecord>()
  const count = Math.floor(tableBytes / recordSize)
  for (let number = 0; number < count; number += 1024) {
    const bytes = await readRuns(tableRuns, number * recordSize, Math.min(1024, count - number) * recordSize)
    for (let i = 0; (i + 1) * recordSize <= bytes.length; i++) {
      const one = bytes.slice(i * recordSize, (i + 1) * recordSize)
      if (text(one, 0, 4) === 'BAAD') say(`record ${number + i} is marked as bad`)
      if (text(one, 0, 4) !== 'FILE' || (view(one).getUint16(22, true) & 1) === 0) continue
      const record = parseRecord(number + i, one, say)
      if (record) records.set(number + i, record)
    }
  }

  const mirrored = Math.min(Math.max(4, Math.floor(cluster / recordSize)), count)
  const mirrorParts = records.get(1)?.attributes.filter((a) => a.type === DATA && a.name === '') ?? []
  const mirrorSize = mirrorParts[0]?.sizes[1] ?? 0
  if (mirrorParts[0]?.runs[0]?.lcn !== mirrorLcn) say('the boot sector names another place for the mirror')
  if (tableRuns[0]?.lcn !== mftLcn) say('the boot sector names another place for the file table')
  const mirror = await readRuns(
    mirrorParts.flatMap((p) => p.runs),
    0,
    Math.min(mirrorSize, mirrored * recordSize),
  )
  for (let number = 0; (number + 1) * recordSize <= mirror.length; number++) {
    const record = await readRuns(tableRuns, number * recordSize, recordSize)
    if (!same(record, mirror.subarray(number * recordSize, (number + 1) * recordSize))) {
      say(`record ${number} differs from its mirror`)
    }
  }

  // Files: base records with what they hold elsewhere.
  const owner = new Int32Array(clusters).fill(-1)
  const listed = new Set<string>()
  const files = new Map<number, CheckedAttribute[]>()
  for (const record of records.values()) {
    for (const { runs, name, type } of record.attributes) {
      if (record.number === 8 && type === DATA && name === '$Bad') continue
      for (const { lcn, length } of runs) {
        if (lcn < 0) continue
        if (lcn + length > clusters) {
          say(`record ${record.number} names cluster ${lcn + length - 1} of ${clusters}`)
          continue
        }
        for (let c = lcn; c < lcn + length; c++) {
          if (owner[c] >= 0) say(`cluster ${c} belongs to record ${owner[c]} and to record ${record.number}`)
          owner[c] = record.number
        }
      }
    }
    if (record.base === 0 && record.baseSequence === 0) {
      const list = record.attributes.find((a) => a.type === LIST)
      if (!list) {
        files.set(record.number, record.attributes)
        continue
      }
      const all: CheckedAttribute[] = [list]
      let before: Entry | undefined
      for (const entry of parseList(await valueOf([list]))) {
        if (before && compareEntries(before, entry) > 0) say(`the list of record ${record.number} is out of order`)
        before = entry
        const holder = records.get(entry.record)
        const found = holder?.attributes.find((a) => a.id === entry.id && a.type === entry.type)
        if (!holder || !found) {
          say(`the list of record ${record.number} names what record ${entry.record} does not hold`)
          continue
        }
        if (holder.sequence !== entry.sequence) say(`the list of record ${record.number} names an old ${entry.record}`)
        if (holder !== record && (holder.base !== record.number || holder.baseSequence !== record.sequence)) {
          say(`record ${holder.number} does not belong to record ${record.number}, which lists it`)
        }
        if (found.name !== entry.name || found.lowestVcn !== entry.lowestVcn) {
          say(`the list of record ${record.number} describes an attribute of ${holder.number} otherwise than it is`)
        }
        listed.add(`${holder.number}/${found.id}/${found.type}`)
        all.push(found)
      }
      files.set(record.number, all)
    }
  }
  for (const record of records.values()) {
    const base = record.base === 0 && record.baseSequence === 0 ? record : records.get(record.base)
    if (!base) say(`record ${record.number} belongs to record ${record.base}, which is not there`)
    if (!base?.attributes.some((a) => a.type === LIST)) continue
    for (const { id, type } of record.attributes) {
      if (type !== LIST && !listed.has(`${record.number}/${id}/${type}`))
        say(`no list names attribute ${type.toString(16)} of record ${record.number}`)
    }
  }

  const streams = (number: number) => {
    const byStream = new Map<string, CheckedAttribute[]>()
    for (const a of files.get(number) ?? []) {
      const key = `${a.type}/${a.name}${a.resident ? `/${a.record}/${a.id}` : ''}`
      byStream.set(key, [...(byStream.get(key) ?? []), a])
    }
    return byStream
  }
  for (const number of files.keys()) {
    for (const [key, parts] of streams(number)) {
      if (parts[0].resident) continue
      parts.sort((a, b) => a.lowestVcn - b.lowestVcn)
      let vcn = 0
      for (const part of parts) {
        if (part.lowestVcn !== vcn) say(`stream ${key} of record ${number} goes on at ${part.lowestVcn}, not ${vcn}`)
        if (part.clusters === 0 && parts.length > 1) say(`stream ${key} of record ${number} has an empty part`)
        vcn += part.clusters
      }
      const [allocated, data, initialized] = parts[0].sizes
      if (allocated !== vcn * cluster)
        say(`stream ${key} of record ${number} has ${vcn} clusters for ${allocated} bytes`)
      if (data > allocated || initialized > data) say(`stream ${key} of record ${number} is longer than its room`)
    }
  }

  const bitmap = await valueOf([...(streams(6).get(`${DATA}/`) ?? [])])
  if (bitmap.length * 8 < clusters) say('the map of clusters is too short')
  for (let c = 0; c < clusters; c++) {
    const marked = (bitmap[c >> 3] >> (c & 7)) & 1
    if (marked && owner[c] < 0) say(`cluster ${c} is marked as used and belongs to nothing`)
    if (!marked && owner[c] >= 0) say(`cluster ${c} of record ${owner[c]} is marked as free`)
  }
  const bad = (files.get(8) ?? []).filter((a) => a.name === '$Bad').reduce((sum, a) => sum + a.clusters, 0)
  if (bad !== clusters) say(`the list of bad clusters covers ${bad} of ${clusters}`)
  const mapParts = [...streams(0)].filter(([key]) => key.startsWith(`${BITMAP}/`)).flatMap(([, parts]) => parts)
  const taken = await valueOf(mapParts)
  for (let number = 0; number < Math.max(count, taken.length * 8); number++) {
    const marked = number >> 3 < taken.length && ((taken[number >> 3] >> (number & 7)) & 1) === 1
    if (records.has(number) && !marked) say(`record ${number} is in use and marked as free`)
    if (!records.has(number) && marked && number >= 24 && number < count)
      say(`record ${number} is marked and not in use`)
  }

  // Directories: every name is in its directory's index, and every entry names a record that is there.
  const names = new Set<string>()
  for (const [number, attributes] of files) {
    const root = attributes.find((a) => a.type === INDEX_ROOT && a.name === '$I30')
    if (!root?.resident) continue
    const blockSize = view(root.resident).getUint32(8, true)
    const unit = blockSize >= cluster ? cluster : 512
    const blocks = streams(number).get(`${INDEX_ALLOCATION}/$I30`)
    const node = async (bytes: Uint8Array, header: number, depth: number): Promise<void> => {
      if (depth > 20) return say(`the index of record ${number} is too deep`)
      const v = view(bytes)
      let at = header + v.getUint32(header, true)
      for (let last = ''; at + 16 <= bytes.length;) {
        const [length, keyLength, flags] = [8, 10, 12].map((o) => v.getUint16(at + o, true))
        if (length < 16 || at + length > bytes.length) return say(`an entry of directory ${number} does not hold`)
        if (flags & 1) await block(Number(v.getBigUint64(at + length - 8, true)), depth + 1)
        if (flags & 2) return
        const target = Number(v.getBigUint64(at, true) & 0xffffffffffffn)
        const sequence = v.getUint16(at + 6, true)
        if (records.get(target)?.sequence !== sequence)
          say(`directory ${number} names record ${target}, which is not it`)
        const name = keyLength >= 66 ? utf16(bytes, at + 16 + 66, bytes[at + 16 + 64]) : ''
        names.add(`${number}/${target}/${name}`)
        if (last && !(flags & 1) && last === name) say(`directory ${number} names ${name} twice`)
        last = name
        at += length
      }
      say(`a node of directory ${number} has no end`)
    }
    const block = async (vcn: number, depth: number): Promise<void> => {
      if (!blocks) return say(`directory ${number} names a block and has none`)
      const bytes = await readRuns(
        blocks.flatMap((b) => b.runs),
        vcn * unit,
        blockSize,
      )
      if (text(bytes, 0, 4) !== 'INDX' || !fixUp(bytes)) return say(`block ${vcn} of directory ${number} does not hold`)
      if (Number(view(bytes).getBigUint64(16, true)) !== vcn) say(`block ${vcn} of directory ${number} is another one`)
      await node(bytes, 24, depth)
    }
    await node(root.resident, 16, 0)
  }
  for (const [number, attributes] of files) {
    for (const { type, resident } of attributes) {
      if (type !== FILE_NAME || !resident) continue
      const parent = Number(view(resident).getBigUint64(0, true) & 0xffffffffffffn)
      const name = utf16(resident, 66, resident[64])
      if (!names.has(`${parent}/${number}/${name}`)) say(`record ${number} is not in directory ${parent} as ${name}`)
    }
  }
  return problems
}

function parseRecord(number: number, bytes: Uint8Array, say: (problem: string) => void): CheckedRecord | undefined {
  const v = view(bytes)
  if (text(bytes, 0, 4) !== 'FILE' || !fixUp(bytes)) {
    say(`record ${number} does not hold together`)
    return undefined
  }
  const inUse = v.getUint32(24, true)
  const nextId = v.getUint16(40, true)
  const attributes: CheckedAttribute[] = []
  const ids = new Set<number>()
  let at = v.getUint16(20, true)
  for (let before = 0; ;) {
    if (at + 8 > inUse || inUse > bytes.length) {
      say(`record ${number} has no end`)
      return undefined
    }
    const type = v.getUint32(at, true)
    if (type === 0xffffffff) break
    const length = v.getUint32(at + 4, true)
    if (length < 24 || length % 8 !== 0 || at + length > inUse) {
      say(`an attribute of record ${number} does not hold`)
      return undefined
    }
    if (type < before) say(`the attributes of record ${number} are out of order`)
    before = type
    const id = v.getUint16(at + 14, true)
    if (ids.has(id)) say(`two attributes of record ${number} have the number ${id}`)
    ids.add(id)
    if (id >= nextId) say(`record ${number} would give the number ${id} a second time`)
    const name = utf16(bytes, at + v.getUint16(at + 10, true), v.getUint8(at + 9))
    const common = { type, name, id, record: number, lowestVcn: 0, runs: [], clusters: 0 }
    if (v.getUint8(at + 8) === 0) {
      const from = at + v.getUint16(at + 20, true)
      const resident = bytes.slice(from, from + v.getUint32(at + 16, true))
      attributes.push({ ...common, resident, sizes: [0, resident.length, resident.length] })
    } else {
      const lowestVcn = Number(v.getBigUint64(at + 16, true))
      const highest = Number(v.getBigInt64(at + 24, true))
      const runs = parseRuns(bytes.subarray(at + v.getUint16(at + 32, true), at + length))
      const clusters = total(runs)
      if (clusters !== highest - lowestVcn + 1) say(`a stream of record ${number} has runs that do not add up`)
      const [allocated, data, initialized] = [40, 48, 56].map((o) => Number(v.getBigUint64(at + o, true)))
      attributes.push({ ...common, lowestVcn, runs, clusters, sizes: [allocated, data, initialized] })
    }
    at += length
  }
  const base = v.getBigUint64(32, true)
  return {
    number,
    sequence: v.getUint16(16, true),
    flags: v.getUint16(22, true),
    base: Number(base & 0xffffffffffffn),
    baseSequence: Number(base >> 48n),
    attributes,
  }
}

function parseRuns(bytes: Uint8Array): CheckedAttribute['runs'] {
  const runs: CheckedAttribute['runs'] = []
  let lcn = 0n
  for (let at = 0; bytes[at];) {
    const [lengthBytes, lcnBytes] = [bytes[at] & 15, bytes[at] >> 4]
    const number = (from: number, count: number) => {
      let value = 0n
      for (let i = 0; i < count; i++) value |= BigInt(bytes[from + i]) << BigInt(8 * i)
      return BigInt.asIntN(8 * count, value)
    }
    const length = Number(number(at + 1, lengthBytes))
    if (lcnBytes > 0) lcn += number(at + 1 + lengthBytes, lcnBytes)
    runs.push({ lcn: lcnBytes > 0 ? Number(lcn) : -1, length })
    at += 1 + lengthBytes + lcnBytes
  }
  return runs
}

interface Entry {
  type: number
  name: string
  lowestVcn: number
  record: number
  sequence: number
  id: number
}

function parseList(bytes: Uint8Array): Entry[] {
  const v = view(bytes)
  const entries: Entry[] = []
  for (let at = 0; at + 26 <= bytes.length;) {
    const reference = v.getBigUint64(at + 16, true)
    entries.push({
      type: v.getUint32(at, true),
      name: utf16(bytes, at + v.getUint8(at + 7), v.getUint8(at + 6)),
      lowestVcn: Number(v.getBigUint64(at + 8, true)),
      record: Number(reference & 0xffffffffffffn),
      sequence: Number(reference >> 48n),
      id: v.getUint16(at + 24, true),
    })
    const length = v.getUint16(at + 4, true)
    if (length < 26) break
    at += length
  }
  return entries
}

function compareEntries(a: Entry, b: Entry): number {
  return a.type - b.type || (a.name < b.name ? -1 : a.name > b.name ? 1 : a.lowestVcn - b.lowestVcn)
}

function fixUp(bytes: Uint8Array): boolean {
  const v = view(bytes)
  const [at, count] = [v.getUint16(4, true), v.getUint16(6, true)]
  if (count !== bytes.length / 512 + 1) return false
  for (let i = 1; i < count; i++) {
    if (v.getUint16(i * 512 - 2, true) !== v.getUint16(at, true)) return false
    v.setUint16(i * 512 - 2, v.getUint16(at + i * 2, true), true)
  }
  return true
}

function total(runs: CheckedAttribute['runs']): number {
  return runs.reduce((sum, run) => sum + run.length, 0)
}

function same(a: Uint8Array, b: Uint8Array): boolean {
  return Buffer.compare(a, b) === 0
}

function view(bytes: Uint8Array): DataView {
  return new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
}

function text(bytes: Uint8Array, at: number, length: number): string {
  return String.fromCharCode(...bytes.subarray(at, at + length))
}

function utf16(bytes: Uint8Array, at: number, letters: number): string {
  return Buffer.from(bytes.subarray(at, at + letters * 2)).toString('utf16le')
}

/** The same of a volume that lies in a file. */
export async function checkNtfsFile(file: string): Promise<string[]> {
  const handle = await open(file, 'r')
  try {
    return await checkNtfs(async (offset, length) => {
      const bytes = Buffer.alloc(length)
      await handle.read(bytes, 0, length, offset)
      return new Uint8Array(bytes.buffer, bytes.byteOffset, length)
    })
  } finally {
    await handle.close()
  }
}
