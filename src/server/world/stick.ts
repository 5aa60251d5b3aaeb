import path from 'node:path'
import type { BenchState } from '@/core/things/bench'
import { imagesFolder } from '../ground/paths'

/** The image with what is on the bench's stick; undefined where there is no stick, or nothing is known of it. */
export function stickImage({ accessories }: BenchState): string | undefined {
  const image = accessories.flatMap((a) => (a.kind === 'stick' && a.image !== null ? [a.image] : [])).at(0)
  return image && path.join(imagesFolder(), path.basename(image))
}
