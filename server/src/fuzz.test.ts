import { afterAll, beforeAll, expect, test } from '@jest/globals';
import fc from 'fast-check';
import request from 'supertest';
import { routesOf, type Route } from './routes.js';
import { descriptionOf, operationOf, type Api } from './testing-description.js';
import { startApplication, workspace, type Client, type TestApplication } from './testing.js';

/**
 * Requests that a program could make up: for every route, bodies and queries whose fields are right in most places
 * and anything at all in some. None may be answered by an internal error, and enough of them have to get past guards
 * and validation, or the test would try nothing. `npm run long -- fuzz` plays more.
 */
const REQUESTS = Number(process.env['OUVRAGE_FUZZ'] ?? 5000);
const SEED = Number(process.env['OUVRAGE_SEED'] ?? 20261128);

let application: TestApplication;
let admin: Client;
let slug: string;
beforeAll(async () => {
  application = await startApplication();
  admin = await application.signIn('admin');
  slug = await workspace(admin, 'Fuzz');
});
afterAll(() => application.close());

/** What no field expects. */
const anything = fc.oneof(
  fc.constantFrom<unknown>(
    null,
    '',
    0,
    -1,
    1.5,
    1e308,
    true,
    [],
    {},
    'null',
    'x\u0000y',
    '\ud800',
    '../..',
    '/a.sql',
    '__proto__',
    'ﷺ'.repeat(200),
    [[]],
    [null],
  ),
  fc.constant({ toString: 1 }),
  fc.constant({ length: 3 }),
  fc.bigInt().map(String),
  fc.string({ maxLength: 40 }),
  fc.jsonValue({ maxDepth: 3 }),
);

/** Values that fields of these names usually have. */
const tables = fc.constantFrom('core.dim_port', 'staging.port', 'landing.port', 'reference.flag', 'core.no_such', 'x');
const columns = fc.constantFrom('port_code', 'port_name', 'flag_code', 'no_such');
const paths = fc.constantFrom(
  'staging/port.sql',
  'core/dim_port.sql',
  'reference/flag.csv',
  'adhoc/x.sql',
  'docs/a.md',
  'checks/c.sql',
  'sources/port_ops.sql',
);
const texts = fc.oneof(
  fc.constantFrom(
    'select 1 as n',
    'select * from staging.port',
    'select 1/0 as n',
    'select from',
    '',
    "select 'é' frm x",
    '/* open',
    'a,b\n1,2\n',
    'select $1',
    'with x as (delete from staging.port returning 1) select 1 as a',
  ),
  fc.string({ maxLength: 60, unit: 'grapheme' }),
);
const flag = fc.boolean();
const limit = fc.constantFrom(1, 5, 1000, '7');

const FIELDS: Readonly<Record<string, fc.Arbitrary<unknown>>> = {
  all: fc.boolean(),
  name: fc.constantFrom('fuzzed', 'berth_rates_2032-01-01.csv', 'Berth dues', 'é'),
  message: fc.constantFrom('x', 'Say why'),
  label: fc.constant('fuzz'),
  path: paths,
  text: texts,
  version: fc.constantFrom(0, 1, 2, '0'),
  tables: fc.array(tables, { maxLength: 3 }),
  table: tables,
  // What is built with all that it needs takes long, and is tried by other tests.
  upstream: fc.oneof(
    { weight: 8, arbitrary: fc.constant(false) },
    { weight: 1, arbitrary: flag },
    { weight: 1, arbitrary: fc.constantFrom('true', 'false') },
  ),
  downstream: fc.oneof({ weight: 8, arbitrary: fc.constant(false) }, { weight: 1, arbitrary: flag }),
  parallelism: fc.constantFrom(1, 2, 16),
  startOver: fc.array(tables, { maxLength: 2 }),
  parameters: fc.constantFrom({}, { least_tonnage: '5' }, { no_such: 'x' }),
  limit,
  show: fc.array(columns, { maxLength: 3 }),
  filters: fc.array(
    fc.record({
      column: columns,
      op: fc.constantFrom('=', '<', 'contains', 'is null'),
      value: fc.constantFrom('a', 'SAL', '1'),
    }),
    {
      maxLength: 2,
    },
  ),
  sort: fc.array(fc.record({ column: columns, descending: flag }), { maxLength: 2 }),
  after: fc.array(fc.constantFrom('a', null, '1'), { maxLength: 4 }),
  casts: fc.array(
    fc.record({ column: fc.constantFrom('n', 'port_code'), type: fc.constantFrom('date', 'no_such', 'x)') }),
    {
      minLength: 1,
      maxLength: 3,
    },
  ),
  production: flag,
  columns: fc.array(columns, { maxLength: 3 }),
  rows: fc.array(fc.array(fc.constantFrom('SAL', 'a', null), { maxLength: 3 }), { maxLength: 2 }),
  sample: fc.record(
    {
      table: tables,
      share: fc.constantFrom(0.1, 1, 0),
      by: fc.array(columns, { maxLength: 2 }),
      each: fc.constantFrom(1, 10),
    },
    { requiredKeys: ['table'] },
  ),
  format: fc.constantFrom('csv', 'csv', 'jsonl', 'parquet', 'junit'),
  look: fc
    .record({ table: tables, show: fc.constant([]), filters: fc.constant([]), sort: fc.constant([]) })
    .map((l) => JSON.stringify(l)),
  step: fc.constantFrom('result', 'source staging.port', 'x'),
  force: flag,
  analyze: flag,
  form: fc.constantFrom('script', 'procedures'),
  files: fc.dictionary(paths, fc.oneof(texts, fc.constant(null)), { maxKeys: 2 }),
  since: fc.constantFrom('a'.repeat(40), '0'.repeat(40), 'HEAD'),
  commit: fc.constantFrom('0000000', 'a'.repeat(40), 'main'),
  id: fc.constantFrom('core.dim_port/dim_port_pkey', 'checks/departed_after_arrival', 'x'),
  consents: fc.constant([]),
  restores: fc.boolean(),
  rights: fc.subarray(['read', 'write', 'run', 'release', 'consent'], { minLength: 1 }),
  at: fc.constantFrom('a'.repeat(40), '0'.repeat(7)),
  treatments: fc.constantFrom({}, { 'core.dim_port': 'go on' }),
  environment: fc.constantFrom('production', 'fuzz'),
  before: fc.constantFrom(1, 100, '5'),
  search: fc.constantFrom('berth', '%', 'é'),
  state: fc.constantFrom('loaded', 'failed'),
  days: fc.constantFrom(1, 30, '7'),
  day: fc.constantFrom('2026-11-30', '2000-02-29'),
  of: fc.constantFrom('here', 'production'),
  zone: fc.constantFrom('UTC', 'Europe/Paris', 'Pacific/Niue'),
  checks: fc.array(fc.constantFrom('core.dim_port/dim_port_pkey', 'checks/no_such'), { maxLength: 2 }),
  kind: fc.constantFrom('check', 'load', 'source', 'measure'),
  subject: fc.constantFrom('core.dim_port/dim_port_pkey', 'core.dim_port', 'landing.port', 'core.dim_port/rows'),
  title: fc.constant('Ports without a name'),
  description: fc.constantFrom('', 'Since the move'),
  severity: fc.constantFrom('low', 'critical'),
  lead: fc.constantFrom('mira', 'nobody'),
  learned: fc.constant('Ask first'),
  though: fc.constantFrom('', 'It is gone soon'),
  into: fc.constantFrom(1, 2, 999),
  measure: fc.constantFrom('rows', 'no such'),
  until: fc.constantFrom('2026-12-31', '2030-01-01'),
  time: fc.constantFrom('2026-03-03T08:00:00Z', '2031-01-01'),
  connection: fc.constant('0b8a3c5e-0000-4000-8000-000000000000'),
  server: fc.constantFrom('port_ops', 'no_such'),
  host: fc.constant('127.0.0.1'),
  port: fc.constant(1),
  database: fc.constant('x'),
  user: fc.constant('x'),
  password: fc.constant('x'),
  tls: fc.constantFrom('off', 'encrypted'),
  ids: fc.constantFrom([], ['0b8a3c5e-0000-4000-8000-000000000000']),
  members: fc.constantFrom([], ['mira'], ['nobody']),
  mail: fc.constantFrom('desk@saltmere.example', null),
  webhook: fc.constantFrom('https://desk.example/x', 'ftp://x', null),
  channels: fc.constantFrom([], ['mail'], ['application', 'mail']),
  least: fc.constantFrom('low', 'critical'),
  digest: fc.constantFrom('at once', 'hour', 'day'),
  quietFrom: fc.constantFrom('22:00', null),
  quietTo: fc.constantFrom('06:30', null),
  subscriptions: fc.constantFrom(
    [],
    [{ kind: 'table', value: 'core.dim_port', least: 'low' }],
    [{ kind: 'all', value: '', least: 'high' }],
  ),
  paused: flag,
  displayName: fc.constant('Mira Okafor'),
  role: fc.constantFrom('viewer', 'administrator'),
  issue: fc.constantFrom('link', 'password'),
  disabled: flag,
  code: fc.constant('x'),
  link: fc.constant('x'),
  present: fc.constant('not the password'),
  idleHours: fc.constantFrom(24, 48),
  publicAddress: fc.constantFrom('', 'https://warehouse.example'),
  ranges: fc.constantFrom([], ['10.0.0.0/8'], ['x']),
};

/** Fields that mean something else in one route. */
const OF_ROUTE: Readonly<Record<string, Readonly<Record<string, fc.Arbitrary<unknown>>>>> = {
  'POST /api/workspaces/:slug/import': {
    tables: fc.array(fc.record({ schema: fc.constant('ops'), name: fc.constantFrom('ports', 'x') }), {
      minLength: 1,
      maxLength: 2,
    }),
  },
  // Who is there already is added again; nobody is changed whom other tests know.
  'POST /api/people': { name: fc.constantFrom('mira', 'jonas') },
  'POST /api/setup': { name: fc.constantFrom('mira', 'nils') },
  'PUT /api/session-limits': { days: fc.constantFrom(7, 30) },
  'GET /api/workspaces/:slug/quality/export': { format: fc.constantFrom('csv', 'csv', 'junit') },
  'PUT /api/workspaces/:slug/sharing': { names: fc.subarray(['jonas', 'mira', 'vera', 'nobody']) },
  'POST /api/connections/test': { id: fc.constant('0b8a3c5e-0000-4000-8000-000000000000') },
  'PUT /api/connections/binding': { environment: fc.constantFrom('production', 'workspaces') },
  'POST /api/workspaces/:slug/agreements': {
    kind: fc.constantFrom('check', 'contract'),
    desk: fc.constantFrom(null, 'dues office'),
  },
  'POST /api/workspaces/:slug/agreements/withdraw': { kind: fc.constantFrom('check', 'contract') },
  'GET /api/sendings': { state: fc.constantFrom('waiting', 'given up') },
  'PUT /api/sending': {
    mail: fc.constantFrom(null, { host: 'mail.example', port: 25, tls: 'off', user: '', from: 'x@y.example' }),
  },
  'POST /api/workspaces/:slug/examples/runs': {
    table: fc.constantFrom('staging.call', 'core.dim_port'),
    name: fc.constantFrom('arrived twice', 'x'),
  },
  'GET /api/workspaces/:slug/compared/export': { kind: fc.constantFrom('different', 'only here', 'only there') },
  'GET /api/workspaces/:slug/compared/rows': {
    kind: fc.constantFrom('different', 'only here', 'only there'),
    column: columns,
  },
  'POST /api/workspaces/:slug/review/verdicts': {
    word: fc.constantFrom('approved', 'declined'),
    diff: fc.constant('0'.repeat(64)),
  },
  'POST /api/workspaces/:slug/review/remarks': {
    kind: fc.constantFrom('whole', 'line', 'column', 'rows'),
    line: fc.constantFrom(1, 2, 1000),
    column: columns,
    rows: fc.constantFrom('different', 'only here'),
  },
  'POST /api/workspaces/:slug/review/remarks/:id/resolution': { resolved: flag },
  'POST /api/workspaces/:slug/page': { limit: fc.constantFrom(1, 10) },
  'POST /api/workspaces/:slug/anatomy/rows': { look: fc.constantFrom('rows', 'keys', 'leftAlone') },
};

/** The fields of a route's body and query, as the API is described. */
interface Described {
  readonly body: readonly string[];
  readonly query: readonly string[];
}

function described(api: Api, route: Route): Described {
  const operation = operationOf(api, route);
  const ref = operation?.requestBody?.content['application/json']?.schema.$ref?.split('/').at(-1);
  return {
    body: ref === undefined ? [] : Object.keys(api.components.schemas[ref]?.properties ?? {}),
    query: (operation?.parameters ?? []).filter((p) => p.in === 'query').map((p) => p.name),
  };
}

/** Fields with their usual values, of which a few are left out and a few are anything. */
function fieldsOf(names: readonly string[], key = ''): fc.Arbitrary<Record<string, unknown>> {
  const field = (name: string) =>
    fc.oneof(
      { weight: 3 * names.length + 6, arbitrary: OF_ROUTE[key]?.[name] ?? FIELDS[name] ?? fc.constant('x') },
      { weight: 1, arbitrary: anything },
    );
  return fc.record(Object.fromEntries(names.map((n) => [n, field(n)])), {
    requiredKeys: [...names].filter(
      (n) => !['after', 'sample', 'force', 'startOver', 'parallelism', 'limit'].includes(n),
    ),
  });
}

const slugs = () =>
  fc.oneof(
    { weight: 8, arbitrary: fc.constantFrom(slug, 'production') },
    { weight: 1, arbitrary: fc.constantFrom('no-such', '%00', '%E0%A4%A', '..', '__proto__') },
  );
const odd = fc.constantFrom('0', '-1', 'x', '99999999999999999999', '1e3', '%00');
const ids = (isUuid: boolean) =>
  fc.oneof(
    {
      weight: 6,
      arbitrary: isUuid
        ? fc.constant('0b8a3c5e-0000-4000-8000-000000000000')
        : fc.constantFrom('1', '2', '3', '999999'),
    },
    { weight: 1, arbitrary: odd },
  );

/** A text that an address can hold. */
const wellFormed = (text: string) => text.replaceAll(/[\ud800-\udfff]/g, '�');

/** Streams do not end; signing out ends the test’s own session, deleting its workspace; builds and releases would change what the others find. */
const LEFT_OUT: readonly string[] = [
  'GET /api/events',
  'GET /api/runs/:id/events',
  'POST /api/sign-out',
  'POST /api/sign-in',
  'POST /api/harbour/advance',
  'POST /api/workspaces/:slug/deletion',
  'ALL /git/project.git/*rest',
];

test.each(['a\0', '\ud800', 'x\udc00y'])('%j is no text: it is refused wherever it is', async (text) => {
  for (const body of [{ mail: text }, { members: [text] }, { [text]: 1 }]) {
    const { status, body: problem } = await admin.send('post', '/api/desks', { name: 'x', members: [], ...body });
    expect([status, (problem as { code: string }).code]).toEqual([400, 'bad-input']);
  }
});

test('a field for one object takes no list, whichever route has it', async () => {
  const api = (await admin.get('/api/docs-json')).body as Api;
  const tried: string[] = [];
  for (const route of routesOf(application.app)) {
    const ref = operationOf(api, route)?.requestBody?.content['application/json']?.schema.$ref?.split('/').at(-1);
    const properties = ref === undefined ? {} : (api.components.schemas[ref]?.properties ?? {});
    // One object of a class is described by a reference, bare, or with what else may be said of it.
    for (const [field] of Object.entries(properties).filter(([, p]) =>
      /^\{("[^"]*":[^[{]*,)*"(\$ref|allOf|oneOf|anyOf)"/.test(JSON.stringify(p)),
    )) {
      const where = route.path.replace(':slug', slug).replace(':id', '1');
      const answer = await request(application.app.getHttpServer() as Parameters<typeof request>[0])
        [route.method.toLowerCase() as 'put' | 'post'](where)
        .set('cookie', admin.cookie)
        .set('x-csrf-token', admin.csrf)
        .send({ [field]: [] });
      tried.push(`${route.method} ${route.path} ${field}`);
      expect([tried.at(-1), answer.status, answer.text]).toEqual([
        tried.at(-1),
        400,
        expect.stringContaining(`${field} must be an object`),
      ]);
    }
  }
  expect(tried).toEqual(expect.arrayContaining(['PUT /api/sending mail', 'POST /api/workspaces/:slug/preview sample']));
});

test(`${REQUESTS} made-up requests give no internal error, and enough of them are taken up`, async () => {
  const api = (await admin.get('/api/docs-json')).body as Api;
  const asDescribed = descriptionOf(api);
  const routes = routesOf(application.app).filter((r) => !LEFT_OUT.includes(`${r.method} ${r.path}`));
  const each = Math.ceil(REQUESTS / routes.length);
  const passed = new Map<string, { asked: number; past: number; milliseconds: number }>();
  const server = application.app.getHttpServer() as Parameters<typeof request>[0];
  const play = async (n: number, route: Route) => {
    const { body, query } = described(api, route);
    const key = `${route.method} ${route.path}`;
    const count = { asked: 0, past: 0, milliseconds: 0 };
    passed.set(key, count);
    const address = fc
      .tuple(slugs(), ids(/connection|token|exports|desks|sendings/.test(route.path)), ids(false), fieldsOf(query, key))
      .map(([s, id, step, q]) => {
        const written = Object.entries(q).map(
          ([k, v]) => `${k}=${encodeURIComponent(typeof v === 'string' ? wellFormed(v) : JSON.stringify(v))}`,
        );
        const place = route.path
          .replace(':slug', s)
          .replace(/:id|:connection/, id)
          .replace(':step', step)
          .replace(':server', 'port_ops')
          .replace(':name', route.path.endsWith('/mail') ? 'mira' : 'nobody')
          .replace(':number', '0b8a3c5e-0000-4000-8000-000000000000');
        return `${place}${written.length ? `?${written.join('&')}` : ''}`;
      });
    await fc.assert(
      fc.asyncProperty(address, fieldsOf(body, key), async (where, fields) => {
        const began = performance.now();
        const method = route.method.toLowerCase() as 'get' | 'post' | 'put' | 'delete';
        const asked = request(server)
          [method](where)
          .set('cookie', admin.cookie)
          .set('x-csrf-token', admin.csrf)
          .timeout(60_000);
        const answer = await (method === 'get'
          ? asked
          : route.path.endsWith('deliveries/file')
            ? asked.set('content-type', 'application/octet-stream').send(Buffer.from('a\n1\n'))
            : asked.set('content-type', 'application/json').send(JSON.stringify(fields)));
        count.asked++;
        count.milliseconds += performance.now() - began;
        expect([key, where, answer.status, asDescribed(route, answer)]).toEqual([
          key,
          where,
          answer.status,
          'as described',
        ]);
        // Past guards and validation: anything but a refusal of the request’s form or of who asks.
        if (![400, 401, 403].includes(answer.status)) count.past++;
        // 502: the made-up connection does not answer, which is reported.
        expect([
          key,
          where,
          JSON.stringify(fields).slice(0, 400),
          answer.status === 502 ? 'told' : answer.status < 500 || answer.status === 503 ? 'below 500' : answer.text,
        ]).toEqual([key, where, JSON.stringify(fields).slice(0, 400), answer.status === 502 ? 'told' : 'below 500']);
      }),
      { numRuns: each, seed: SEED + n, endOnFailure: true },
    );
  };
  const left = [...routes.entries()];
  const lane = async () => {
    for (let next = left.shift(); next; next = left.shift()) await play(...next);
  };
  // One person has three looks at a time.
  await Promise.all([lane(), lane(), lane()]);
  const shares = [...passed].map(([key, { asked, past }]) => [key, past / asked] as const);
  process.stdout.write(
    `fuzz: seed ${SEED}, ${[...passed.values()].reduce((sum, c) => sum + c.asked, 0)} requests; past validation ${shares.map(([k, s]) => `${k} ${Math.round(s * 100)} %`).join(', ')}\n`,
  );
  const slowest = [...passed].sort((a, b) => b[1].milliseconds - a[1].milliseconds).slice(0, 8);
  process.stdout.write(
    `fuzz: slowest routes ${slowest.map(([key, c]) => `${key} ${(c.milliseconds / 1000).toFixed(1)} s`).join(', ')}\n`,
  );
  expect(shares.filter(([, share]) => share < 1 / 3).map(([k, s]) => `${k} ${Math.round(s * 100)} %`)).toEqual([]);
}, 900_000);
