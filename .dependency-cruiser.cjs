/** Arrows point one way: app → ui, server; server → core, bench, host; bench → core, host; host, ui → core. Core points at nothing. */
const only = (room, allowed) => ({
  name: `${room}-points-at-${allowed.join('-and-') || 'nothing'}`,
  severity: 'error',
  from: { path: `^src/${room}/`, pathNot: '\\.test\\.tsx?$|^src/core/testing' },
  to: { path: '^src/', pathNot: [`^src/${room}/`, ...allowed.map((name) => `^src/${name}/`)] },
})

/** The layers of the server, the lowest first. Each imports only from those below it. */
const LAYERS = ['ground', 'access', 'database', 'leases', 'jobs', 'images', 'world', 'moves', 'copying', 'stations', 'pages']
const layerRules = LAYERS.slice(0, -1).map((layer, at) => ({
  name: `server-${layer}-points-down`,
  severity: 'error',
  from: { path: `^src/server/${layer}/`, pathNot: '\\.test\\.ts$' },
  to: { path: LAYERS.slice(at + 1).map((name) => `^src/server/${name}/`) },
}))

module.exports = {
  forbidden: [
    only('core', []),
    only('host', ['core', 'nbd']),
    only('nbd', ['core']),
    only('bench', ['core', 'host']),
    only('outside', ['core', 'bench', 'host', 'nbd']),
    only('ui', ['core']),
    only('server', ['core', 'bench', 'host', 'nbd', 'outside']),
    only('cli', ['core', 'host', 'nbd']),
    only('app', ['ui', 'server', 'core', 'bench']),
    {
      name: 'core-is-pure',
      comment: 'Core knows no framework, no database and nothing of the machine it runs on.',
      severity: 'error',
      from: { path: '^src/core/', pathNot: '\\.test\\.ts$|^src/core/testing' },
      to: { path: '^(node:|fs$|path$)|node_modules/(react|next|sequelize|sqlite3)/', dependencyTypesNot: ['type-only'] },
    },
    { name: 'core-uses-no-builtins', severity: 'error', from: { path: '^src/core/', pathNot: '\\.test\\.ts$|^src/core/testing' }, to: { dependencyTypes: ['core'] } },
    ...layerRules,
    {
      name: 'stations-know-no-other',
      comment: 'What one station leaves for the next is in the move (server/moves).',
      severity: 'error',
      from: { path: '^src/server/stations/([^/]+)/', pathNot: '\\.test\\.ts$' },
      to: { path: '^src/server/stations/[^/]+/', pathNot: '^src/server/stations/$1/' },
    },
    {
      name: 'long-reads-in-threads',
      comment: 'What reads volumes or writes to drives runs in a thread, so that the server goes on answering.',
      severity: 'error',
      from: { path: '^src/(server|app)/', pathNot: ['^src/server/jobs/threads/tasks/', '\\.worker\\.ts$', '\\.test\\.ts$'] },
      to: {
        path: '^src/core/(survey/survey|repair/(index|apply|shrink-in-place)|fit/rehearse|drivers/on-drive|block/erase|boot/(trace|loader-on)|copy/run)\\.ts$',
        dependencyTypesNot: ['type-only'],
      },
    },
    { name: 'no-circles', severity: 'error', from: {}, to: { circular: true, viaOnly: { dependencyTypesNot: ['type-only'] } } },
    { name: 'tests-are-not-imported', severity: 'error', from: { pathNot: ['\\.test\\.tsx?$', '^src/core/testing', '/testing\\.ts$'] }, to: { path: '\\.test\\.tsx?$|^src/core/testing' } },
  ],
  options: {
    doNotFollow: { path: 'node_modules' },
    tsConfig: { fileName: 'tsconfig.json' },
    tsPreCompilationDeps: true,
    enhancedResolveOptions: { exportsFields: ['exports'], conditionNames: ['import', 'require', 'node', 'default', 'types'] },
  },
}
