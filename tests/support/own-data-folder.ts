import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll } from 'vitest'

// Each file of tests has a data folder of its own, which is named before anything of the server is loaded.

const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-data-'))
process.env.IMBARCO_DATA = folder

afterAll(() => rmSync(folder, { recursive: true, force: true }))
