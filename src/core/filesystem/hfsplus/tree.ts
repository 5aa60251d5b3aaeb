import { viewOf } from '../../bytes/struct'
import { BadStructure } from '../../errors'
import { NODE, NODE_INDEX, NODE_LEAF, TREE_HEADER } from './layout'

/** Reads part of a special file. */
export type ForkReader = (offset: number, length: number) => Promise<Uint8Array>

export interface TreeRecord {
  readonly key: Uint8Array
  readonly data: Uint8Array
}

/** A B-tree of the volume ("B-Trees"). Throws BadStructure. */
export class Tree {
  private constructor(
    private readonly name: string,
    private readonly read: ForkReader,
    private readonly header: ReturnType<typeof TREE_HEADER.read>,
  ) {}

  static async open(name: string, read: ForkReader, sizeBytes: number): Promise<Tree> {
    const first = await read(0, 512)
    const header = TREE_HEADER.read(first, NODE.size)
    const { nodeSize, totalNodes } = header
    if (nodeSize < 512 || nodeSize > 32768 || !Number.isInteger(Math.log2(nodeSize))) {
      throw new BadStructure(name, 0, `its nodes would be ${nodeSize} bytes`)
    }
    if (totalNodes * nodeSize > sizeBytes) throw new BadStructure(name, 0, `it claims ${totalNodes} nodes`)
    return new Tree(name, read, header)
  }

  /**
   * Records in order of their keys from the first for which `below` is false on, until the caller stops.
   * `below` tells whether a key comes before what is sought.
   */
  async *from(below: (key: Uint8Array) => boolean): AsyncGenerator<TreeRecord> {
    let number = this.header.root
    if (number === 0) return
    for (let depth = this.header.depth; depth > 1; depth--) {
      const { kind, records } = await this.node(number)
      if (kind !== NODE_INDEX) throw new BadStructure(this.name, number, 'an index node is of another kind')
      // The last child whose key is not past the goal holds it, if anything does.
      let child = records[0]
      for (const record of records) if (below(record.key)) child = record
      if (!child || child.data.length < 4) throw new BadStructure(this.name, number, 'an index node is empty')
      number = viewOf(child.data).getUint32(0)
    }
    const seen = new Set<number>()
    while (number !== 0) {
      if (seen.has(number)) throw new BadStructure(this.name, number, 'its leaves lead back to themselves')
      seen.add(number)
      const { kind, next, records } = await this.node(number)
      if (kind !== NODE_LEAF) throw new BadStructure(this.name, number, 'a leaf is of another kind')
      for (const record of records) if (!below(record.key)) yield record
      number = next
    }
  }

  private async node(number: number): Promise<{ kind: number; next: number; records: TreeRecord[] }> {
    const { nodeSize, totalNodes } = this.header
    const bad = (why: string) => new BadStructure(this.name, number * nodeSize, why)
    if (number >= totalNodes) throw bad(`node ${number} does not exist`)
    const bytes = await this.read(number * nodeSize, nodeSize)
    const { kind, next, records: count } = NODE.read(bytes)
    const view = viewOf(bytes)
    if (NODE.size + (count + 1) * 2 > nodeSize) throw bad(`node ${number} claims ${count} records`)
    const offsets = Array.from({ length: count + 1 }, (_, i) => view.getUint16(nodeSize - 2 * (i + 1)))
    const records = offsets.slice(0, -1).map((at, i) => {
      const end = offsets[i + 1]
      if (at < NODE.size || end > nodeSize || end < at + 2) throw bad(`a record of node ${number} lies outside`)
      const keyEnd = at + 2 + view.getUint16(at)
      // Data begins at an even offset.
      const dataAt = keyEnd + (keyEnd % 2)
      if (dataAt > end) throw bad(`a key of node ${number} is longer than its record`)
      return { key: bytes.subarray(at + 2, keyEnd), data: bytes.subarray(dataAt, end) }
    })
    return { kind, next, records }
  }
}
