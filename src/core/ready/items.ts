import { contentWords } from '../survey/words'
import { formatSize } from '../bytes/size'
import type { DriveSurvey } from '../survey/types'

/** Everything the list is computed from. Times are already in words. */
export interface ReadyFacts {
  readonly source: DriveSurvey
  readonly target: DriveSurvey
  readonly sourceName: string
  readonly targetName: string
  /** The computer that copies; undefined when a computer of the shop does. */
  readonly computer?: {
    readonly name: string
    readonly running: 'off' | 'system' | 'stick'
    /** Key that opens its boot menu. */
    readonly bootMenuKey: string
    readonly hasBattery: boolean
    readonly mains: boolean
  }
  /** The computer of the shop that copies. */
  readonly hostName?: string
  readonly stickName: string
  /** Bytes of real data that the target's file will take on this host, and what is free there. */
  readonly hostNeededBytes: number
  readonly hostFreeBytes: number
  readonly backup?: { readonly where: string; readonly date: string }
  readonly backupWaived: boolean
  readonly sourceUnchanged: boolean
  readonly targetUnchanged: boolean
  readonly targetConnected: boolean
  readonly sourceConnected: boolean
  /** Hands have something to do before this leg. */
  readonly handsFirst: boolean
  /** The drives sit where the plan has them for this leg. */
  readonly routeHolds: boolean
  readonly surveyedAt: string
}

/** One thing that has to be true before a copy may start. */
export interface ReadyItem {
  readonly id: string
  readonly title: string
  /** Why it is on the list. */
  readonly why: string
  /** What to do, while it is not settled. */
  readonly how?: string
  readonly state: 'settled' | 'open' | 'blocks'
  /** How it is known: `read 09:12`, `seen now`, `told 09:05`. */
  readonly known: string
  readonly action?: {
    readonly id: 'start-stick' | 'plug-in' | 'look-again' | 'waive-backup' | 'go-to-swap'
    readonly label: string
  }
}

/** The list for this move, what blocks first, what is settled last. The same facts give the same list. */
export function readyItems(facts: ReadyFacts): ReadyItem[] {
  const items = [
    ...(facts.handsFirst ? [handsItem(facts)] : [...connectionItems(facts), ...routeItem(facts)]),
    cleanItem(facts),
    ...runningItems(facts),
    backupItem(facts),
    encryptionItem(facts),
    hostItem(facts),
    eraseItem(facts),
  ]
  const rank = { blocks: 0, open: 1, settled: 2 }
  return items.sort((a, b) => rank[a.state] - rank[b.state])
}

function connectionItems(facts: ReadyFacts): ReadyItem[] {
  const lookAgain = { id: 'look-again', label: 'Look again' } as const
  const one = (which: 'source' | 'target', name: string, connected: boolean, unchanged: boolean): ReadyItem => {
    const base = { id: `${which}-same`, known: 'seen now' }
    if (!connected) {
      return {
        ...base,
        state: 'blocks',
        title: `The ${name} is not connected.`,
        why: 'It was when it was surveyed.',
        how: 'Put it back where it was, then look again.',
        action: lookAgain,
      }
    }
    if (!unchanged) {
      return {
        ...base,
        state: 'blocks',
        title: `The ${name} has changed since it was surveyed.`,
        why: 'Its partition table is another one, so the fit may no longer hold.',
        how: 'Read both drives again in Survey and lock the fit anew.',
      }
    }
    return {
      ...base,
      state: 'settled',
      title: `The ${name} is the drive that was surveyed`,
      why: `its table is as it was ${facts.surveyedAt}`,
    }
  }
  return [
    one('source', facts.sourceName, facts.sourceConnected, facts.sourceUnchanged),
    one('target', facts.targetName, facts.targetConnected, facts.targetUnchanged),
  ]
}

/** On the list when drives have to change places before this leg. */
function handsItem({ sourceName, targetName }: ReadyFacts): ReadyItem {
  return {
    id: 'hands-first',
    state: 'blocks',
    known: 'by the plan',
    title: 'The drives have to change places first.',
    why: `The plan has the ${sourceName} and the ${targetName} elsewhere for this copy.`,
    how: 'Go through the steps one by one; each is ticked off as it is done.',
    action: { id: 'go-to-swap', label: 'Show the steps' },
  }
}

/** Only on the list when a drive that is still connected was moved to another place. */
function routeItem({ routeHolds, sourceConnected, targetConnected }: ReadyFacts): ReadyItem[] {
  if (routeHolds || !sourceConnected || !targetConnected) return []
  return [
    {
      id: 'route-holds',
      state: 'blocks',
      known: 'seen now',
      title: 'A drive sits elsewhere than the route has it.',
      why: 'The way of the bytes and its time are others now.',
      how: 'Put it back, or take the route anew.',
      action: { id: 'look-again', label: 'Look again' },
    },
  ]
}

function cleanItem({ source, surveyedAt }: ReadyFacts): ReadyItem {
  const known = `read ${surveyedAt}`
  const dirty = source.partitions.filter((p) => p.volume?.state === 'dirty')
  const damaged = source.partitions.filter((p) => p.findings.some((f) => f.severity === 'damage'))
  if (damaged.length > 0) {
    return {
      id: 'clean',
      state: 'blocks',
      known,
      title: `${damaged.map((p) => p.title).join(' and ')} cannot be read properly.`,
      why: 'A copy by used blocks would leave out what is not understood.',
      how: 'Have the file system repaired by its own system, then read the drive again in Survey.',
    }
  }
  if (dirty.length > 0) {
    return {
      id: 'clean',
      state: 'blocks',
      known,
      title: `${dirty.map((p) => p.title).join(' and ')} was not closed cleanly.`,
      why: 'A copy would carry the fault along, and may stop half way.',
      how: 'Run the file-system check in the computer and shut it down, then read the drive again in Survey.',
    }
  }
  const names = source.partitions.filter((p) => p.volume).map((p) => p.title)
  return { id: 'clean', state: 'settled', known, title: 'File systems are clean', why: names.join(', ') }
}

function runningItems(facts: ReadyFacts): ReadyItem[] {
  const { computer, hostName } = facts
  if (computer) return [runningItem(facts, computer), mainsItem(computer)]
  const title = `The ${hostName ?? 'host'} does the copying`
  return [
    { id: 'not-running', known: 'by the plan', state: 'settled', title, why: 'no customer’s computer is running' },
  ]
}

type Copier = NonNullable<ReadyFacts['computer']>

function runningItem({ stickName }: ReadyFacts, { name, running, bootMenuKey }: Copier): ReadyItem {
  const base = { id: 'not-running', known: 'seen now' }
  if (running === 'stick') {
    return {
      ...base,
      state: 'settled',
      title: `The ${name} runs from the rescue stick`,
      why: 'nothing on the source is in use',
    }
  }
  return {
    ...base,
    state: 'open',
    title: running === 'system' ? `The ${name} is running its own system.` : `The ${name} is switched off.`,
    why:
      running === 'system'
        ? 'Files would change while they are copied.'
        : 'The drives can only be read while it runs from the rescue stick.',
    how: `Shut it down and start it from the ${stickName}; ${bootMenuKey} opens its boot menu.`,
    action: { id: 'start-stick', label: 'Start it from the stick' },
  }
}

function mainsItem({ mains, hasBattery, name }: Copier): ReadyItem {
  const base = { id: 'mains', known: 'seen now' }
  if (mains) {
    return {
      ...base,
      state: 'settled',
      title: 'Mains power',
      why: hasBattery ? 'a copy outlasts a battery' : 'the cable is in',
    }
  }
  return {
    ...base,
    state: 'open',
    title: `The ${name} has no mains power.`,
    why: hasBattery ? 'A copy outlasts a battery.' : 'It cannot run without.',
    how: 'Plug the cable in.',
    action: { id: 'plug-in', label: 'It is in' },
  }
}

function backupItem({ backup, backupWaived }: ReadyFacts): ReadyItem {
  const base = { id: 'backup', known: 'told at intake' }
  if (backup) return { ...base, state: 'settled', title: `Backup of ${backup.date}`, why: backup.where }
  if (backupWaived) {
    return {
      ...base,
      state: 'settled',
      title: 'No backup, and the customer knows',
      why: 'the source stays as it is, and is the way back',
    }
  }
  return {
    ...base,
    state: 'open',
    title: 'There is no backup.',
    why: 'The old drive is the only copy while the new one is written.',
    how: 'Make one first, or note that the customer wants to go on without.',
    action: { id: 'waive-backup', label: 'Go on without' },
  }
}

function encryptionItem({ source, surveyedAt }: ReadyFacts): ReadyItem {
  const unknown = source.partitions.filter((p) => !p.volume && p.role !== 'reserved')
  if (unknown.length > 0) {
    return {
      id: 'readable',
      state: 'settled',
      known: `read ${surveyedAt}`,
      title: `${unknown.map((p) => p.title).join(', ')} is copied sector by sector`,
      why: 'its file system is not one that can be read here',
    }
  }
  return {
    id: 'readable',
    state: 'settled',
    known: `read ${surveyedAt}`,
    title: 'No encryption',
    why: 'every volume opened and was read',
  }
}

function hostItem({ hostNeededBytes, hostFreeBytes }: ReadyFacts): ReadyItem {
  const base = { id: 'host-room', known: 'seen now' }
  if (hostFreeBytes < hostNeededBytes) {
    return {
      ...base,
      state: 'blocks',
      title: 'This host has too little room for the target’s bytes.',
      why: `It needs ${formatSize(hostNeededBytes)} and has ${formatSize(hostFreeBytes)}.`,
      how: 'Free some room on the disk that holds the bench’s data folder, then look again.',
      action: { id: 'look-again', label: 'Look again' },
    }
  }
  return {
    ...base,
    state: 'settled',
    title: 'Room on this host',
    why: `${formatSize(hostNeededBytes)} needed, ${formatSize(hostFreeBytes)} free`,
  }
}

function eraseItem({ target, targetName, surveyedAt }: ReadyFacts): ReadyItem {
  const base = { id: 'erased', state: 'settled', known: `read ${surveyedAt}` } as const
  const erased = (what: string) => ({
    ...base,
    title: `The ${targetName} holds ${what}`,
    why: 'all of it will be erased',
  })
  if (target.scheme === 'none') {
    return { ...base, title: `The ${targetName} holds nothing`, why: 'so nothing of value is erased' }
  }
  if (target.partitions.length === 0) return erased(contentWords(target))
  return erased(`${target.partitions.map((p) => p.title).join(', ')}, ${formatSize(target.usedBytes)} used`)
}

/** How many things still stand in the way. */
export function openCount(items: readonly ReadyItem[]): number {
  return items.filter((item) => item.state !== 'settled').length
}
