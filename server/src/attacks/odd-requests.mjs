import { held } from './app.mjs';

export const title = 'requests that are not what they should be give internal errors';

export async function attack(app) {
  const [mira, admin] = [await app.as('mira'), await app.as('admin')];
  const drafts = '/api/workspaces/berth-dues/drafts';
  const page = { table: 'core.dim_port', show: [], filters: [], sort: [], limit: 5 };
  const cases = [
    ['NUL in a draft', () => mira.send('PUT', drafts, { path: 'staging/a.sql', text: 'a\0b', version: 0 })],
    ['NUL in an address', () => mira.get('/api/workspaces/a%00b/files')],
    ['NUL in a query', () => admin.get('/api/audit?text=%00')],
    [
      'a number that throws',
      () => mira.send('PUT', drafts, { path: 'staging/a.sql', text: 'a', version: { toString: 1 } }),
    ],
    [
      'a sample by null',
      () =>
        mira.send('POST', '/api/workspaces/berth-dues/preview', {
          path: 'adhoc/a.sql',
          text: 'select 1 as a',
          limit: 1,
          sample: { table: 'core.dim_port', by: null },
        }),
    ],
    [
      'no text in files',
      () =>
        mira.send('POST', '/api/workspaces/berth-dues/take-production', { files: { 'staging/port.sql': { a: 1 } } }),
    ],
    ['files as a list', () => mira.send('POST', '/api/workspaces/berth-dues/take-production', { files: [1] })],
    ['an id beyond integers', () => mira.get('/api/runs/99999999999999999999')],
    ['an id of a step beyond integers', () => mira.get('/api/runs/1/steps/9007199254740993000')],
    ['a page before any', () => admin.get('/api/audit?before=99999999999999999999999')],
    ['look=null', () => mira.get('/api/workspaces/berth-dues/export?format=csv&look=null')],
    ['look=[]', () => mira.get('/api/workspaces/berth-dues/export?format=csv&look=[]')],
    [
      'objects behind a page',
      () => mira.send('POST', '/api/workspaces/berth-dues/page', { ...page, after: [{ a: 1 }] }),
    ],
    ['an absolute path', () => mira.get('/api/workspaces/berth-dues/history?path=/a.sql')],
    [
      'JSON as a cookie',
      () => app.request('GET', '/api/session', { headers: { cookie: 'ouvrage_session=j:{"a":1}' } }),
    ],
    [
      'JSON as a cookie of a guarded route',
      () => app.request('GET', '/api/runs', { headers: { cookie: 'ouvrage_session=j:{"a":1}' } }),
    ],
    ['no JSON', () => app.request('POST', '/api/sign-in', { raw: '{' })],
    ['an address that cannot be decoded', () => mira.get('/api/workspaces/%E0%A4%A/files')],
    [
      'a parameter that is no text',
      () =>
        mira.send('POST', '/api/workspaces/berth-dues/runs', {
          tables: ['core.dim_port'],
          upstream: true,
          downstream: false,
          parameters: { a: {} },
        }),
    ],
  ];
  for (const [what, ask] of cases) {
    const { status } = await ask();
    held(status < 500, `${what} answers ${status}`);
  }
}
