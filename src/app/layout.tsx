import type { Metadata } from 'next'
import { cookies, headers } from 'next/headers'
import type { ReactNode } from 'react'
import { ActionsProvider } from '@/ui/frame/actions'
import { EventsProvider } from '@/ui/frame/events'
import { Toasts } from '@/ui/frame/toasts'
import * as actions from './actions'
import { HullPatterns } from '@/ui/shared/hull'
import './globals.css'

export const metadata: Metadata = { title: { default: 'Imbarco', template: '%s · Imbarco' } }

/** The theme is known before anything is drawn: what the person chose, or else what the system asks for. */
const THEME_SCRIPT =
  "if(!document.documentElement.dataset.theme)document.documentElement.dataset.theme=matchMedia('(prefers-color-scheme: dark)').matches?'night':'day'"

export default async function RootLayout({ children }: { children: ReactNode }) {
  const theme = (await cookies()).get('theme')?.value
  const nonce = (await headers()).get('x-nonce') ?? undefined
  return (
    <html lang="en" data-theme={theme === 'night' || theme === 'day' ? theme : undefined} suppressHydrationWarning>
      <head>
        <script nonce={nonce} suppressHydrationWarning dangerouslySetInnerHTML={{ __html: THEME_SCRIPT }} />
      </head>
      <body>
        <ActionsProvider
          actions={{
            renameMove: actions.renameMoveAction,
            putOffMove: actions.putOffMoveAction,
            takeUpMove: actions.takeUpMoveAction,
            giveUpMove: actions.giveUpMoveAction,
            confirmIntake: actions.confirmIntakeAction,
            readDrives: actions.readDrivesAction,
            confirmSurvey: actions.confirmSurveyAction,
            takeRoute: actions.takeRouteAction,
            lockFit: actions.lockFitAction,
            takeTarget: actions.takeTargetAction,
            unlockFit: actions.unlockFitAction,
            settle: actions.readyActionAction,
            finishStep: actions.finishStepAction,
            untickStep: actions.untickStepAction,
            tickScrews: actions.tickScrewsAction,
            startTrial: actions.startTrialAction,
            turnOn: actions.turnOnAction,
            goBack: actions.goBackAction,
            switchComputer: actions.switchComputerAction,
            makeRepair: actions.makeRepairAction,
            takeRepairBack: actions.takeRepairBackAction,
            handOver: actions.handOverAction,
            putBack: actions.putBackAction,
            eraseDrive: actions.eraseDriveAction,
            setPace: actions.setPaceAction,
            newMove: actions.newMoveAction,
            changeMove: actions.changeMoveAction,
            measureAgain: actions.measureAgainAction,
            bench: {
              newBench: actions.newBenchAction,
              showBench: actions.showBenchAction,
              renameBench: actions.renameBenchAction,
              removeBench: actions.removeBenchAction,
              saveComputer: actions.saveComputerAction,
              saveAccessory: actions.saveAccessoryAction,
              addDrive: actions.addDriveAction,
              changeDrive: actions.changeDriveAction,
              removeThing: actions.removeThingAction,
              setPower: actions.setPowerAction,
            },
          }}
        >
          <EventsProvider>{children}</EventsProvider>
        </ActionsProvider>
        <HullPatterns />
        <Toasts />
      </body>
    </html>
  )
}
