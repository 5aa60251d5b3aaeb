import { availableParallelism } from 'node:os'
import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vitest/config'
import { BaseSequencer, type TestSpecification } from 'vitest/node'

/** Files that take the longest, which no other may wait for at the end: a fresh clone does not know them yet. */
const LONGEST = [
  ...[
    'by-image',
    'series',
    'interrupted',
    'benches',
    'virtual-machine',
    'failing',
    'first-minute',
    'move',
    'afterwards',
  ],
  ...['every-change', 'copy-command', 'restore-into', 'kills', 'image-routes', 'store-command', 'after-copy', 'label'],
]

/** Each of these has its data folder, or stand-ins for modules, and with them its own world. */
const OWN_WORLD = ['src/server/**/*.test.ts', 'tests/server/*.test.ts', 'src/host/direct-file.test.ts']

class LongestFirst extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    const rank = ({ moduleId }: TestSpecification) => {
      const at = LONGEST.indexOf(moduleId.replace(/^.*\/|\.test\.tsx?$/g, ''))
      return at < 0 ? LONGEST.length : at
    }
    return (await super.sort(files)).sort((a, b) => rank(a) - rank(b))
  }
}

export default defineConfig({
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  test: {
    sequence: { sequencer: LongestFirst },
    projects: [
      {
        extends: true,
        test: {
          name: 'core',
          // Nothing of it is kept between files, so that what they share is loaded once.
          isolate: false,
          maxWorkers: availableParallelism(),
          include: ['src/core/**/*.test.ts', 'src/ui/**/*.test.{ts,tsx}'],
          testTimeout: 150_000,
          hookTimeout: 60_000,
        },
      },
      {
        extends: true,
        test: {
          name: 'unit',
          // Nor of these: what one has loaded and compiled, the next one finds.
          isolate: false,
          maxWorkers: availableParallelism(),
          setupFiles: ['tests/support/threads.ts'],
          include: ['src/**/*.test.ts', 'tests/*.test.ts'],
          exclude: ['src/core/**', 'src/ui/**', ...OWN_WORLD],
          testTimeout: 150_000,
          hookTimeout: 60_000,
        },
      },
      {
        extends: true,
        test: {
          name: 'server',
          maxWorkers: availableParallelism(),
          env: { IMBARCO_LOG: process.env.IMBARCO_LOG ?? 'silent' },
          globalSetup: ['tests/support/demo-bench.ts'],
          setupFiles: ['own-data-folder', 'threads', 'quick-queries'].map((name) => `tests/support/${name}.ts`),
          include: OWN_WORLD,
          testTimeout: 150_000,
          hookTimeout: 60_000,
        },
      },
      {
        extends: true,
        test: {
          name: 'browser',
          include: ['tests/browser/**/*.test.ts'],
          globalSetup: ['tests/support/demo-bench.ts'],
          // Each file has its own browser and server, which wait for each other most of the time.
          maxWorkers: availableParallelism() * 2,
          testTimeout: 400_000,
          hookTimeout: 240_000,
        },
      },
    ],
  },
})
