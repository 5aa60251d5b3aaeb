import { uploads } from '@/server/images/upload'

export const dynamic = 'force-dynamic'

/** The upload protocol speaks through all of these. */
const handle = (request: Request): Promise<Response> => uploads().handleWeb(request)

export { handle as DELETE, handle as HEAD, handle as OPTIONS, handle as PATCH, handle as POST }
