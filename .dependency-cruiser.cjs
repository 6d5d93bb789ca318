/** Core's phases in their order: each knows those before it, types included. */
const PHASES = [
  'sql',
  'catalog',
  'model',
  'schedule',
  'language',
  'index',
  'columns',
  'graph',
  'resolve',
  'compile',
  'check',
  'keys',
  'load',
  'intake',
];
/** What people ask of a project: each knows the phases, and none of the others. */
const QUESTIONS = ['lineage', 'anatomy', 'review', 'starter', 'watch', 'exchange', 'example', 'assist', 'look'];

const inFolders = (folders) => `^core/src/(${folders.join('|')})/`;
const mayKnow = (folder, known) => ({
  name: `core-${folder}`,
  comment: `${folder} knows ${known.length ? known.join(', ') : 'nothing of core'}`,
  severity: 'error',
  from: { path: `^core/src/${folder}/`, pathNot: '(\\.test|/testing)\\.ts$' },
  to: { path: '^core/src/', pathNot: inFolders([folder, ...known]) },
});

/** The direction of dependency: web and server know core's subpaths; core knows nobody. */
module.exports = {
  forbidden: [
    {
      name: 'core-knows-nobody',
      severity: 'error',
      from: { path: '^core/src', pathNot: '\\.test\\.ts$' },
      to: { path: '^(api|server|web|demo|node:|fs$|path$)', pathNot: '^core' },
    },
    {
      name: 'core-imports-few-packages',
      severity: 'error',
      from: { path: '^core/src', pathNot: '(\\.test\\.ts|testing\\.ts)$' },
      to: {
        dependencyTypes: ['npm', 'npm-dev', 'core'],
        pathNot: 'node_modules/(libpg-query|@noble/hashes|@pgsql/types|csv-parse)',
      },
    },
    {
      name: 'cli-knows-core-and-api',
      severity: 'error',
      from: { path: '^cli/src' },
      to: { path: '^(server|web|demo)/' },
    },
    ...PHASES.map((folder, i) => mayKnow(folder, PHASES.slice(0, i))),
    ...QUESTIONS.map((folder) => mayKnow(folder, PHASES)),
    {
      name: 'core-has-these-folders',
      severity: 'error',
      from: { path: '^core/src/', pathNot: `(${inFolders([...PHASES, ...QUESTIONS])}|^core/src/testing\\.ts$)` },
      to: {},
    },
    {
      name: 'no-own-barrel',
      severity: 'error',
      from: { path: '^core/src', pathNot: '\\.test\\.ts$' },
      to: { path: '^core/src/[^/]+/index\\.ts$' },
    },
    {
      name: 'only-the-public-core',
      severity: 'error',
      from: { path: '^(server|web)/src' },
      to: { path: '^core/src/', pathNot: '^core/src/[^/]+/index\\.ts$' },
    },
    {
      name: 'api-is-types-of-core',
      severity: 'error',
      from: { path: '^api/src' },
      to: { pathNot: '^(api/src/|core/src/[^/]+/index\\.ts$)' },
    },
    { name: 'web-and-server-apart', severity: 'error', from: { path: '^web/src' }, to: { path: '^server/' } },
    {
      name: 'no-circles',
      severity: 'error',
      from: { path: '^(core|server|web)/src', pathNot: '\\.test\\.tsx?$' },
      to: { circular: true },
    },
  ],
  options: {
    doNotFollow: { path: 'node_modules' },
    tsPreCompilationDeps: true,
    enhancedResolveOptions: {
      exportsFields: ['exports'],
      conditionNames: ['source', 'import', 'require', 'node', 'default', 'types'],
    },
  },
};
