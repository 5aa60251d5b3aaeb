import { NotPossible } from '@/ui/frame/not-possible'

export default function NotFound() {
  return (
    <NotPossible
      heading="There is nothing here"
      sentence="The address names no move or page of this bench. Nothing was changed."
    />
  )
}
