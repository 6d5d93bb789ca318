/** The direction of dependency: web and server know core's public exports; core knows nobody. */
module.exports = {
  forbidden: [
    {
      name: 'core-knows-nobody',
      severity: 'error',
      from: { path: '^core/src', pathNot: '\\.test\\.ts$' },
      to: { path: '^(server|web|demo|node:|fs$|path$)', pathNot: '^core' },
    },
    {
      name: 'core-imports-two-packages',
      severity: 'error',
      from: { path: '^core/src', pathNot: '(\\.test\\.ts|testing\\.ts)$' },
      to: { dependencyTypes: ['npm', 'npm-dev', 'core'], pathNot: 'node_modules/(libpg-query|@noble/hashes|@pgsql/types)' },
    },
    { name: 'no-own-barrel', severity: 'error', from: { path: '^core/src', pathNot: '\\.test\\.ts$' }, to: { path: '^core/src/index\\.ts$' } },
    { name: 'only-the-public-core', severity: 'error', from: { path: '^(server|web)/src' }, to: { path: '^core/src/(?!index\\.ts|graph/graph\\.ts)' } },
    { name: 'web-and-server-apart', severity: 'error', from: { path: '^web/src' }, to: { path: '^server/' } },
    { name: 'no-circles', severity: 'error', from: { path: '^core/src' }, to: { circular: true, viaOnly: { dependencyTypesNot: ['type-only'] } } },
  ],
  options: {
    doNotFollow: { path: 'node_modules' },
    tsPreCompilationDeps: true,
    enhancedResolveOptions: { exportsFields: ['exports'], conditionNames: ['source', 'import', 'require', 'node', 'default', 'types'] },
  },
};
