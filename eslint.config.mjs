import next from 'eslint-config-next/core-web-vitals'
import typescript from 'eslint-config-next/typescript'

const FETCHES_BEFOREHAND = ['next/link', 'next/form'].map((name) => ({
  name,
  message: 'Links fetch what they lead to beforehand; take those of @/ui/frame/link.',
}))

const config = [
  { ignores: ['.next/**', 'node_modules/**', 'data/**', 'build/**', 'next-env.d.ts'] },
  ...next,
  ...typescript,
  {
    rules: {
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_' }],
      '@typescript-eslint/consistent-type-imports': ['error', { fixStyle: 'inline-type-imports' }],
      'no-restricted-imports': ['error', { patterns: ['@/*/../*'], paths: FETCHES_BEFOREHAND }],
    },
  },
  { files: ['src/ui/frame/link.tsx'], rules: { 'no-restricted-imports': 'off' } },
]

export default config
