import { notFound } from 'next/navigation'
import { waysOutOf } from '@/app/ways-out'
import type { ReactNode } from 'react'
import { isStation, STATIONS, type StationId } from '@/core/move/stations'
import { answer } from '@/server/ground/answer'
import { fitsLocked } from '@/server/database/notes'
import { moveDrives } from '@/server/moves'
import { type MovePage, movePage } from '@/server/moves/page'
import { headState } from '@/server/pages/head'
import { copyView } from '@/server/stations/copy/view'
import { fitView } from '@/server/stations/fit/view'
import { handoverView } from '@/server/stations/handover/view'
import { intakeView } from '@/server/stations/intake/view'
import { proofView } from '@/server/stations/proof/view'
import { readyAheadView, readyView } from '@/server/stations/ready/view'
import { routeView } from '@/server/stations/route/view'
import { surveyView } from '@/server/stations/survey/view'
import { swapView } from '@/server/stations/swap/view'
import { CopyStation } from '@/ui/copy/copy-station'
import { FitStation } from '@/ui/fit/fit-station'
import { Head } from '@/ui/frame/head'
import { NotPossible } from '@/ui/frame/not-possible'
import { Rail } from '@/ui/frame/rail'
import { Waiting } from '@/ui/frame/waiting'
import { HandoverStation } from '@/ui/handover/handover-station'
import { IntakeStation } from '@/ui/intake/intake-station'
import { MoveNotice } from '@/ui/job/move-notice'
import { MoveMenu, StandingNote } from '@/ui/move/move-menu'
import { ProofStation } from '@/ui/proof/proof-station'
import { ReadyAhead } from '@/ui/ready/ready-ahead'
import { ReadyStation } from '@/ui/ready/ready-station'
import { RouteStation } from '@/ui/route/route-station'
import { TroubleNote } from '@/ui/route/trouble-note'
import { SurveyStation } from '@/ui/survey/survey-station'
import { SwapStation } from '@/ui/swap/swap-station'

export const dynamic = 'force-dynamic'

type Params = { params: Promise<{ id: string; station: string }> }

export async function generateMetadata({ params }: Params) {
  const { station } = await params
  return { title: STATIONS.find((s) => s.id === station)?.title ?? 'Not here' }
}

export default async function StationPage({ params }: Params) {
  const { id, station } = await params
  if (!isStation(station)) notFound()
  const page = await answer(() => movePage(id))
  if (!page.ok) {
    if (page.status === 404) notFound()
    const drives = await answer(() => moveDrives(id))
    const links = drives.ok
      ? drives.value.map((d) => ({ label: `Look inside the ${d.name}`, href: `/drives/${d.id}` }))
      : []
    return <NotPossible sentence={page.sentence} links={[...waysOutOf(page), ...links]} />
  }
  const { title, name, customer, standing, rail, trouble, job } = page.value
  return (
    <>
      <Head
        state={await headState()}
        move={{ id, title }}
        menu={<MoveMenu moveId={id} name={name} customer={customer} standing={standing} />}
      />
      <div className="grid min-h-[calc(100dvh-52px)] grid-cols-[minmax(0,1fr)] content-start lg:grid-cols-[184px_minmax(0,1fr)_300px] lg:content-stretch">
        <Rail moveId={id} stops={rail} here={station} />
        <MoveNotice
          job={job}
          laidAside={standing !== null}
          notice={
            <>
              {standing && <StandingNote moveId={id} standing={standing} />}
              {!standing && trouble && station !== 'route' && <TroubleNote moveId={id} trouble={trouble} />}
            </>
          }
        >
          {await content(station, page.value)}
        </MoveNotice>
      </div>
    </>
  )
}

/** The work of a station, or what has to come before it. */
async function content(station: StationId, page: MovePage): Promise<ReactNode> {
  const { id, row } = page.move
  const { progress, obstacle } = page
  const after = (first: StationId) => <Waiting moveId={id} station={station} first={first} />
  switch (station) {
    case 'intake':
      return <IntakeStation moveId={id} view={await intakeView(page)} />
    case 'survey':
      return row.intake ? <SurveyStation moveId={id} view={surveyView(page)} /> : after('intake')
    case 'route':
      return row.survey?.confirmed ? <RouteStation moveId={id} view={await routeView(page)} /> : after('survey')
    case 'fit':
      if (!row.survey || !progress) return after('route')
      return <FitStation moveId={id} view={await fitView(page)} />
    case 'ready':
      if (!fitsLocked(row)) return after('fit')
      return obstacle ? (
        <ReadyAhead moveId={id} sentence={obstacle} {...await readyAheadView(page)} />
      ) : (
        <ReadyStation moveId={id} view={await readyView(page)} />
      )
    case 'copy':
      return page.copy || progress?.copied ? <CopyStation moveId={id} view={await copyView(page)} /> : after('ready')
    case 'swap':
      // What hands do before the first copy comes up in Ready.
      return progress && fitsLocked(row) && (progress.copied > 0 || progress.phase === 0 || row.swap) ? (
        <SwapStation moveId={id} view={swapView(page)} />
      ) : (
        after('copy')
      )
    case 'proof':
      return row.survey && page.move.goal ? <ProofStation moveId={id} view={await proofView(page)} /> : after('survey')
    case 'handover': {
      const view = await handoverView(page)
      return view ? <HandoverStation moveId={id} view={view} /> : after('proof')
    }
  }
}
