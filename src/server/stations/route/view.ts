import type { Finding } from '@/core/findings'
import { needsOf } from '@/core/ready/items'
import { courseOf } from '@/core/route/course'
import { ORDER_RULE } from '@/core/route/judge'
import { type Move, movesAlone, oldDriveStays } from '../../moves'
import { goalOf } from '../../moves/goal'
import type { MovePage } from '../../moves/page'
import { notYet, sharedDrives } from '../../moves/question'
import { routesOf } from '.'

/** What the computer that the system goes to needs, before anything is copied. */
async function needsFound(move: Move): Promise<{ computer: string; findings: Finding[] } | null> {
  if (!move.goal || move.brief.targetComputerId === null) return null
  const findings = needsOf(await goalOf(move)).map(({ id, state, title, why }): Finding => ({
    code: id,
    severity: state === 'settled' ? 'note' : 'caution',
    sentence: state === 'settled' ? `${title}: ${why}.` : `${title} ${why}`,
  }))
  return findings.length > 0 ? { computer: move.goal.name, findings } : null
}

export async function routeView({ move, progress, obstacle, trouble }: MovePage) {
  const { plans, obstacles, openings } = await routesOf(move)
  const taken = progress?.plan
  // The plan that was taken stays on the page as it was taken, even when the bench has become another one.
  const shown = taken && !plans.some((p) => p.id === taken.id) ? [taken, ...plans] : plans
  return {
    taken: taken?.id,
    begun: (progress?.copied ?? 0) > 0 || progress?.copies.some((c) => c !== undefined) === true,
    plans: shown.map((plan) => {
      const used = taken?.id === plan.id ? taken : plan
      const { actions, ...rest } = used
      return {
        ...rest,
        notYet: notYet(used),
        stops: courseOf(used, move.bench),
        legs: actions.flatMap((a) =>
          a.do === 'transfer'
            ? [
                {
                  how: a.how,
                  bytes: a.bytes,
                  timing: a.timing,
                  known: a.known,
                  lowSeconds: a.lowSeconds,
                  highSeconds: a.highSeconds,
                },
              ]
            : [],
        ),
      }
    }),
    rule: plans.some((p) => notYet(p)) ? `What is only planned comes last. ${ORDER_RULE}` : ORDER_RULE,
    obstacles,
    openings,
    obstacle,
    trouble,
    shared: await sharedDrives(move),
    computerName: move.computer.name,
    toVirtualMachine: move.brief.toVirtualMachine,
    alone: movesAlone(move),
    stays: oldDriveStays(move),
    needs: await needsFound(move),
  }
}
