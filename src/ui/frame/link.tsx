import NextForm from 'next/form'
import NextLink from 'next/link'
import type { ComponentProps } from 'react'

/**
 * A link within the application. What it leads to is not fetched beforehand: every page shows the bench as it is when
 * it is opened, and a page that is told of each change would fetch all that it links to each time.
 */
export function Link(props: ComponentProps<typeof NextLink>) {
  return <NextLink prefetch={false} {...props} />
}

/** A form that asks for a page with what was typed. */
export function Form(props: ComponentProps<typeof NextForm>) {
  return <NextForm prefetch={false} {...props} />
}
