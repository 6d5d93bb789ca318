/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, screen, within } from '@testing-library/react';
import type { AffectedTable, IncidentDetail } from '@ouvrage/api/incident';
import type { CheckSeries } from '@ouvrage/api/quality';
import { around, incidentOf, renderPlace, serve } from '../../testing';

const { IncidentAside } = await import('./incident-aside');
afterEach(cleanup);

const CHECK = 'core.dim_berth/dim_berth_pkey';
const affected = (table: string, of: Partial<AffectedTable> = {}): AffectedTable => ({
  table,
  owner: null,
  failing: 0,
  incident: null,
  ...of,
});
const detailOf = (of: Partial<IncidentDetail>): IncidentDetail => ({
  ...incidentOf(4),
  description: '',
  learned: null,
  closedThough: null,
  events: [],
  now: [{ subject: CHECK, title: 'berth_key is the key', verdict: 'broken' }],
  affected: [],
  causes: [],
  related: [],
  before: [],
  ...of,
});
const point = (run: number, verdict: 'holds' | 'advisory' | 'broken', atFault: string) => ({
  id: CHECK,
  run,
  verdict,
  atFault,
  total: '200',
  at: `2026-01-0${run}T04:00:00Z` as const,
});

/** Shows what stands beside an incident. @returns its sections by name */
const show = async (of: Partial<IncidentDetail>, series: Partial<CheckSeries> = {}) => {
  serve({
    ...around(),
    'GET workspaces/dues/quality/series': { points: [], releases: [], failing: null, ...series },
  });
  await renderPlace(<IncidentAside incident={detailOf(of)} />);
  await screen.findByRole('complementary', { name: 'Around the incident' });
  return (name: string) => within(screen.getByRole('region', { name }));
};

test('a check is drawn with its newest verdicts, and leads to itself', async () => {
  const section = await show(
    {},
    { points: [point(1, 'holds', '0'), point(2, 'advisory', '3'), point(3, 'broken', '1200')] },
  );
  expect((await section('Now').findByRole('img', { name: /^Rows at fault/ })).getAttribute('aria-label')).toBe(
    'Rows at fault: 0, 3, 1,200',
  );
  expect(section('Now').getByRole('link', { name: 'berth_key is the key' }).getAttribute('href')).toBe(
    '/w/dues/quality/core.dim_berth/dim_berth_pkey',
  );
});

test('one verdict alone is not drawn, nor a subject that is no check', async () => {
  const subjects = [{ kind: 'source' as const, subject: 'landing.berth', table: 'landing.berth' }];
  const now = [{ subject: 'landing.berth', title: 'landing.berth is late', verdict: 'broken' as const }];
  const section = await show({ subjects, now }, { points: [point(1, 'holds', '0')] });
  expect(section('Now').getByText('landing.berth is late')).toBeTruthy();
  expect(section('Now').queryByRole('link')).toBeNull();
  expect(section('Now').queryByRole('img', { name: /^Rows at fault/ })).toBeNull();
});

test('where nothing upstream fails, what was released, and which files came, before it broke are named', async () => {
  const release = { id: 12, message: 'Berths by quay\n\nmore', person: 'Mira', at: '2026-01-01T00:00:00Z' as const };
  const section = await show(
    {},
    {
      failing: {
        since: '2026-01-02T04:00:00Z',
        run: 2,
        results: 2,
        held: '2026-01-01T04:00:00Z',
        releases: [{ ...release, tables: ['core.dim_berth'] }],
        loads: [],
        files: [{ table: 'landing.berth', file: 'berths_2026-01-01.csv', at: '2026-01-01T00:10:00Z', rows: '5' }],
      },
    },
  );
  await section('Upstream').findByRole('list');
  const items = section('Upstream').getAllByRole('listitem');
  expect(items.map((i) => i.textContent)).toEqual([
    'release 12, Berths by quay',
    'berths_2026-01-01.csv came into landing.berth',
  ]);
  expect(section('Upstream').getByText(/Nothing upstream fails/)).toBeTruthy();
});

test('causes and whom it affects are tables with their owners, checks and incidents', async () => {
  const section = await show({
    causes: [affected('staging.berth', { failing: 2, incident: 5 })],
    affected: [affected('core.dim_berth', { owner: 'tide desk' })],
  });
  expect(section('Upstream').getByRole('listitem').textContent).toBe('staging.berth2 checks failingincident 5');
  expect(section('Upstream').getByRole('link', { name: 'incident 5' }).getAttribute('href')).toBe(
    '/w/dues/incidents/5',
  );
  expect(section('Affected').getByRole('listitem').textContent).toBe('core.dim_berthtide desk');
});

test('of many affected tables the first are listed', async () => {
  const section = await show({ affected: Array.from({ length: 34 }, (_, i) => affected(`mart.t${i}`)) });
  expect(section('Affected').getAllByRole('link')).toHaveLength(30);
  expect(section('Affected').getByText('and 4 more')).toBeTruthy();
  expect(section('Affected').getByText('34 tables')).toBeTruthy();
});

test('what one cause would explain is proposed, and what was before is told with how long it took', async () => {
  const closed = (id: number, closedAt: string) => incidentOf(id, { state: 'closed', closedAt: closedAt as never });
  const section = await show({
    related: [{ id: 7, title: 'Berths twice', why: 'staging.berth is upstream' }],
    before: [closed(3, '2026-01-02T04:00:00Z'), closed(2, '2026-01-04T00:00:00Z')],
  });
  expect(section('Related').getByRole('link').textContent).toBe('7. Berths twice');
  expect(
    section('Before')
      .getAllByRole('link')
      .map((l) => l.textContent),
  ).toEqual(['3. Incident 3', '2. Incident 2']);
  expect(section('Before').getByText('The last of 2 took 3 hours.')).toBeTruthy();
});
