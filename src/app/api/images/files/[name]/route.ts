import { answer, respond } from '@/server/ground/answer'
import { StoreSchema, removeFromDrive } from '@/server/pages/images/on-drives'
import { removeImage } from '@/server/pages/images/remove'

/** Deletes an image that nothing uses: of the images folder, or of a volume of the drive that is named. */
export async function DELETE(request: Request, { params }: { params: Promise<{ name: string }> }): Promise<Response> {
  const { name } = await params
  const { searchParams } = new URL(request.url)
  const driveId = searchParams.get('drive')
  return respond(
    await answer(async () => {
      if (driveId === null) return removeImage(name)
      const store = StoreSchema.unwrap().parse({ driveId, partition: Number(searchParams.get('partition')) })
      return removeFromDrive(store, name)
    }),
  )
}
