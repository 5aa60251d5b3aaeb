import type { ReactElement } from 'react'
import { renderToStaticMarkup } from 'react-dom/server'
import { type Actions, ActionsProvider } from './frame/actions'

/** Text of markup, tags left out and white space drawn together. */
export function textOf(markup: string): string {
  return markup
    .replace(/<[^>]+>/g, ' ')
    .replace(/&#x27;/g, "'")
    .replace(/\s+/g, ' ')
    .trim()
}

/** A drive as a plate shows it. */
export const plate = (name: string) => ({ id: name, name, serial: `s-${name}`, place: 'somewhere', sizeBytes: 1 })

/** A station as its page first shows it: the finding, the next action, and all of its text. */
export interface Shown {
  readonly finding: string
  /** The label of the one next action, or undefined where there is none or it cannot be taken. */
  readonly next: string | undefined
  readonly text: string
  readonly markup: string
}

/** Renders a station as the server does, with actions that nobody calls. */
export function showStation(station: ReactElement): Shown {
  const none = new Proxy({}, { get: () => () => Promise.reject(new Error('Nothing is called here.')) }) as Actions
  const markup = renderToStaticMarkup(<ActionsProvider actions={none}>{station}</ActionsProvider>)
  const finding = textOf(/<h1[^>]*>(.*?)<\/h1>/.exec(markup)?.[1] ?? '')
  const button = /<button[^>]*data-testid="next-action"[^>]*>(.*?)<\/button>/.exec(markup)
  const next = button && !/ disabled=""/.test(button[0]) ? textOf(button[1]).replace(/ (Enter|Space)$/, '') : undefined
  return { finding, next, text: textOf(markup), markup }
}
