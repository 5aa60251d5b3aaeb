import { availableParallelism } from 'node:os'
import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  test: {
    projects: [
      {
        extends: true,
        test: {
          name: 'unit',
          // Each file has its own world, so that every core can take one.
          maxWorkers: availableParallelism(),
          env: { IMBARCO_LOG: 'silent' },
          include: ['src/**/*.test.ts', 'src/**/*.test.tsx', 'tests/*.test.ts'],
          testTimeout: 150_000,
          hookTimeout: 60_000,
        },
      },
      {
        extends: true,
        test: {
          name: 'browser',
          include: ['tests/browser/**/*.test.ts'],
          globalSetup: ['tests/browser/support/server.ts'],
          // One browser and one server: the files take their turns.
          fileParallelism: false,
          testTimeout: 240_000,
          hookTimeout: 240_000,
        },
      },
    ],
  },
})
