import type pg from 'pg';

/** Units of the planner's cost that are worked through in a second: a page read in order is one, a row a hundredth. */
const COST_A_SECOND = 250_000;

/** Planning that takes longer is broken off: what takes so long to plan is not counted unasked either. */
const PLANNING_MILLISECONDS = 3000;
/** What is said then, in seconds. */
const TOO_LONG = 60;

/** How long statements may take together, in seconds, by the planner's cost; nothing is run. */
export async function plannedSeconds(client: pg.ClientBase, statements: Iterable<string>): Promise<number> {
  const until = performance.now() + PLANNING_MILLISECONDS;
  let cost = 0;
  for (const sql of statements) {
    if (performance.now() > until) return Math.max(TOO_LONG, Math.round(cost / COST_A_SECOND));
    await client.query('savepoint before_plan');
    try {
      const { rows } = await client.query<{ 'QUERY PLAN': string | readonly { Plan: { 'Total Cost': number } }[] }>({
        text: `explain (format json) ${sql}`,
        queryMode: 'extended',
      } as pg.QueryConfig);
      const found = rows[0]!['QUERY PLAN'];
      const plan = (typeof found === 'string' ? JSON.parse(found) : found) as { Plan: { 'Total Cost': number } }[];
      cost += plan[0]!.Plan['Total Cost'];
    } catch {
      await client.query('rollback to savepoint before_plan');
      // Anything else that is wrong with it is said where it is asked.
      if (performance.now() > until) return TOO_LONG;
    }
  }
  return Math.round((cost / COST_A_SECOND) * 10) / 10;
}
