import type { NextConfig } from 'next'

const config: NextConfig = {
  // Native and dynamic parts that a bundler cannot follow.
  serverExternalPackages: [
    'sequelize',
    'sqlite3',
    'umzug',
    'pino',
    'koffi',
    '@napi-rs/blake-hash',
    '@tus/server',
    '@tus/file-store',
    'pdfkit',
    'wawoff2',
    'generic-pool',
  ],
  // Pages go over this machine or the shop's network, where packing them costs more than it saves.
  compress: false,
  poweredByHeader: false,
  devIndicators: false,
  reactStrictMode: true,
  // Types have a run of their own (`npm run typecheck`, which .ci/run begins with), and take as long as the rest of a build.
  typescript: { ignoreBuildErrors: true },
}

export default config
