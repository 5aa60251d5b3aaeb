'use client'

import { NotPossible } from '@/ui/frame/not-possible'

export default function ErrorPage() {
  return (
    <NotPossible
      heading="This page could not be made"
      sentence="Something went wrong inside Imbarco while it was read. Nothing was written. The server’s log has the details; try again, or go back."
    />
  )
}
