import { CoreError } from '../errors'
import { splitPath } from './path'

/** A file for a new volume: with its content, or of a size whose clusters are taken and left as they are. */
export type NewFile =
  | (Scatter & { readonly path: string; readonly content: Uint8Array })
  | (Scatter & {
      readonly path: string
      readonly unwrittenBytes: number
      /** Its first bytes, the only ones that are written. */
      readonly head?: Uint8Array
    })

interface Scatter {
  /** Into how many runs it is broken. */
  readonly fragments?: number
  /** Clusters left free in front of it. */
  readonly gap?: number
}

/** A directory (`children`) or a file (`file`) of a tree. */
export interface TreeNode {
  readonly name: string
  readonly children?: Map<string, TreeNode>
  readonly file?: NewFile
}

/** The files as a tree, directories made as their paths name them. Throws CoreError when a path stands twice. */
export function buildTree(files: readonly NewFile[]): TreeNode {
  const root: TreeNode = { name: '', children: new Map() }
  for (const file of files) {
    const parts = splitPath(file.path)
    let at = root
    parts.forEach((name, i) => {
      const key = name.toUpperCase()
      const existing = at.children?.get(key)
      const last = i === parts.length - 1
      if (existing?.file || (last && existing)) throw new CoreError(`The path ${file.path} stands twice.`)
      const next: TreeNode = existing ?? (last ? { name, file } : { name, children: new Map() })
      at.children!.set(key, next)
      at = next
    })
  }
  return root
}
