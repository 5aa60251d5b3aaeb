import { NotSupported } from '../../errors'
import type { Finding } from '../../findings'
import type { FileSystem } from '../port'

/** What is known of a volume that cannot be looked into. */
type Identity = Pick<FileSystem, 'kind' | 'name' | 'label' | 'serial' | 'totalBytes'> &
  Partial<Pick<FileSystem, 'clusterSize' | 'state' | 'encrypted' | 'findings'>> & {
    /** Why its files cannot be shown, as a sentence. */
    readonly why: string
  }

/** A volume of which every sector counts: encrypted, a member of a group, or of a kind without a reader. */
export function sealedVolume({ why, ...identity }: Identity): FileSystem {
  const finding: Finding = {
    severity: 'caution',
    code: 'volume.every-sector',
    sentence: `${why} Only a copy of every sector of it is honest.`,
  }
  return {
    clusterSize: 512,
    state: 'unknown',
    ...identity,
    findings: [...(identity.findings ?? []), finding],
    depth: 'sealed',
    async *usedExtents() {
      yield { offset: 0, length: identity.totalBytes }
    },
    ...unlisted(why),
  }
}

/** The file operations of a volume whose files are not read: all refuse with the sentence given. */
export function unlisted(why: string): Pick<FileSystem, 'list' | 'stat' | 'openFile' | 'readFile'> {
  return {
    async list() {
      throw new NotSupported(why)
    },
    async stat() {
      return undefined
    },
    async openFile() {
      throw new NotSupported(why)
    },
    async readFile() {
      throw new NotSupported(why)
    },
  }
}
