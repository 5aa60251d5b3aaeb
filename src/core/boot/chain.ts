import { CoreError } from '../errors'
import { LINK_TITLES, type LinkId, type TraceLink } from './types'

/** Ends a chain: the link that could not be passed. */
export class BootFailure extends Error {
  constructor(
    readonly found: string,
    readonly evidence: string,
    readonly why: string,
    /** Names of repairs that may mend it. */
    readonly repairs: readonly string[] = [],
  ) {
    super(found)
  }
}

/** The links of one start, followed in their order. */
export class Chain {
  readonly links: TraceLink[] = []

  constructor(private readonly order: readonly LinkId[]) {}

  pass(found: string, evidence: string): void {
    this.add({ state: 'passed', found, evidence })
  }

  /** For a link that may hold, and that nobody can follow from here. */
  unproved(found: string, evidence: string, why: string): void {
    this.add({ state: 'unproved', found, evidence, why })
  }

  /** Says of all that is left that it is not followed. */
  restUnproved(found: string, evidence: string, why: string): void {
    while (this.links.length < this.order.length) this.unproved(found, evidence, why)
  }

  /** Runs what follows the links and gives what it came to; undefined when a link failed, which ends it. */
  async follow<T>(work: () => Promise<T>): Promise<T | undefined> {
    let result: T | undefined
    try {
      result = await work()
    } catch (error) {
      if (!(error instanceof BootFailure) && !(error instanceof CoreError)) throw error
      const stop = error instanceof BootFailure ? error : undefined
      this.add({
        state: 'failed',
        found: stop?.found ?? 'cannot be read',
        evidence: stop?.evidence ?? error.message,
        why: stop?.why ?? 'What is on the drive contradicts itself, so the start ends here.',
        ...(stop && stop.repairs.length > 0 ? { repairs: [...stop.repairs] } : {}),
      })
    }
    while (this.links.length < this.order.length) this.add({ state: 'not-reached', found: 'not reached', evidence: '' })
    return result
  }

  private add(link: Omit<TraceLink, 'id' | 'title'>): void {
    const id = this.order[this.links.length]
    this.links.push({ id, title: LINK_TITLES[id], ...link })
  }
}
