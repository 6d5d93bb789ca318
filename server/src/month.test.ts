import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { startApplication, warehouse, type Client, type RunView, type TestApplication } from './testing.js';

/**
 * The demo day after day: the clock moves on, everything is brought in and run. Only the troubles that
 * the clock plants show, each where it belongs. `OUVRAGE_DAYS=30` plays a month.
 */
const DAYS = Number(process.env['OUVRAGE_DAYS'] ?? 7);
/** The day of the harbour on which its system gets a column that the declaration lacks. */
const NEW_COLUMN = 67;
/** Every so many days a line of the tide table holds a word for a number. */
const BAD_TIDE = 19;
let application: TestApplication;
let mira: Client;

beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
});
afterAll(() => application.close());

const failed = (run: RunView) =>
  run.steps
    .filter((s) => !['done', 'reused'].includes(s.state))
    .map((s) => `${s.table}: ${s.error?.message ?? s.state}`);
const loud = (run: RunView) =>
  (run as unknown as { steps: { checks: { id: string; verdict: string }[] }[] }).steps.flatMap((s) =>
    s.checks.filter((c) => c.verdict !== 'holds').map((c) => `${c.id} ${c.verdict}`),
  );

interface Delivered {
  readonly id: number;
  readonly file: string;
  readonly state: string;
  readonly reason: string | null;
}

test(`${DAYS} days`, async () => {
  const look = async () => ((await mira.send('post', '/api/deliveries/look')).body as { files: Delivered[] }).files;
  const known = new Set((await look()).map((f) => f.id));
  for (let n = 0; n < DAYS; n++) {
    const { day } = (await mira.send('post', '/api/harbour/advance', { days: 1 })).body as { day: number };
    const files = await look();
    const wrong = files.filter((f) => !known.has(f.id) && !['loaded', 'empty', 'repeated'].includes(f.state));
    for (const f of files) known.add(f.id);
    expect({ day, wrong: wrong.map((f) => `${f.file.replace(/_[\d-]+/, '')} ${f.state}: ${f.reason ?? ''}`) }).toEqual({
      day,
      wrong: day % BAD_TIDE === 0 ? ['tide_table.csv failed: line 4, column height_m: “calm” is not a number'] : [],
    });
    const intake = await mira.ended(
      ((await mira.send('post', '/api/workspaces/production/intake', { tables: [] })).body as { id: number }).id,
    );
    const drift =
      'landing.owner: landing.owner and ops.owners in port_ops differ: the system has a new column register_no (text)';
    expect({ day, failed: failed(intake) }).toEqual({ day, failed: day < NEW_COLUMN ? [] : [drift] });
    const run = await mira.ended(
      (
        (await mira.send('post', '/api/workspaces/production/runs', { tables: [], upstream: true, downstream: false }))
          .body as { id: number }
      ).id,
    );
    expect({ day, state: run.state, failed: failed(run), loud: loud(run).sort() }).toEqual({
      day,
      state: 'succeeded',
      failed: [],
      loud: ['checks/vessels_are_in_the_register advisory', 'core.dim_vessel/dim_vessel_flag_code_not_null advisory'],
    });
  }
});

test.each([
  [
    'no two versions of a vessel overlap',
    "select count(*) as n from core.dim_vessel a join core.dim_vessel b on a.hull_no = b.hull_no and a.valid_from < b.valid_from and b.valid_from < coalesce(a.valid_to, 'infinity')",
  ],
  [
    'no two versions of a berth overlap',
    "select count(*) as n from core.dim_berth a join core.dim_berth b on a.berth_code = b.berth_code and a.valid_from < b.valid_from and b.valid_from < coalesce(a.valid_to, 'infinity')",
  ],
  [
    'a berth has one number, and a number one berth',
    'select count(distinct berth_no) - count(distinct berth_code) as n from core.dim_berth',
  ],
  [
    'the current berth is what the register says',
    'select count(*) as n from core.dim_berth d join staging.berth b using (berth_code) where d.is_current and (d.berth_name, d.terminal_code, d.depth_m) is distinct from (b.berth_name, b.terminal_code, b.depth_m)',
  ],
  [
    'dues point to the vessel that was charged',
    'select count(*) as n from core.fact_dues d join core.dim_vessel v using (vessel_key) where v.vessel_key <> 0 and v.hull_no <> d.hull_no',
  ],
  [
    'dues point to the berth as it was',
    'select count(*) as n from core.fact_dues d join core.dim_berth b using (berth_key) where b.berth_code <> d.berth_code',
  ],
  [
    'every cargo line is there once',
    'select (select count(*) from staging.cargo_line) - (select count(*) from core.fact_cargo) + (select count(*) - count(distinct line_id) from core.fact_cargo) as n',
  ],
  [
    'the marts of terminals hold each call once',
    `select (select count(*) from core.fact_call) - (select sum(n) from (${['north_quay', 'timber_basin', 'grain_wharf', 'box_stage'].map((f) => `select count(*) as n from mart_${f}.calls`).join(' union all ')}) c) as n`,
  ],
])('%s', async (_, sql) => expect(Number((await warehouse<{ n: string }>(sql))[0]!.n)).toBe(0));
