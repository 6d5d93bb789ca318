import { BEGUN_WORKSPACE } from '../drafts.js';
import { dateOf } from '../harbour.js';
import { SLOW_GATE_DAY, STUCK_UNTIL } from '../troubles.js';
import { type Caller, Refused } from './people.js';

/** The demo's people who do something in its past. */
export interface Cast {
  /** Releaser of the dues office, who looks after production. */
  readonly mira: Caller;
  /** Editor of the harbour master's and the fleet desk. */
  readonly jonas: Caller;
}

interface RunSeen {
  readonly id: number;
  readonly state: string;
}
interface IncidentSeen {
  readonly id: number;
  readonly state: string;
  readonly subjects: readonly { readonly kind: string; readonly subject: string }[];
}

/** A day of the harbour's past: what people do on the morning after it, beside bringing in and building. */
interface Event {
  readonly day: number;
  /** The time of day, UTC. */
  readonly at: string;
  readonly play: (cast: Cast) => Promise<void>;
}

const GATE_CHECK = { kind: 'check', subject: 'core.fact_call/fact_call_hours_at_berth_check' } as const;

/** What happens besides the daily work, in order. */
export const STORY: readonly Event[] = [
  {
    day: SLOW_GATE_DAY - 2,
    at: '13:20',
    play: ({ mira }) =>
      release(
        { author: mira, releaser: mira },
        {
          workspace: 'Open dues',
          message: 'Dues that are still open, by month',
          files: { 'mart/open_dues.sql': OPEN_DUES },
          tables: ['mart.open_dues'],
        },
      ),
  },
  {
    day: SLOW_GATE_DAY,
    at: '07:50',
    play: async ({ jonas }) => {
      const id = await incident(jonas, { ...GATE_CHECK, severity: 'high' });
      await jonas.send('POST', `incidents/${id}/take`);
      await jonas.send('POST', `incidents/${id}/remarks`, {
        text: 'All of them are at Box Stage: its gate clock is two hours slow since last night. The harbour office sets it right today.',
      });
    },
  },
  {
    day: SLOW_GATE_DAY,
    at: '10:40',
    play: ({ jonas, mira }) =>
      release(
        { author: jonas, releaser: mira },
        {
          workspace: 'Gate clock',
          message: 'A departure before the arrival is left out until it is corrected',
          files: {
            'staging/call.sql': (text) =>
              text.replace(
                /^( *)c\.departed_at,$/m,
                '$1case when c.departed_at < c.arrived_at then null else c.departed_at end as departed_at,',
              ),
            'examples/staging.call/left before it came/input.landing.call.csv': GATE_EXAMPLE.input,
            'examples/staging.call/left before it came/result.csv': GATE_EXAMPLE.result,
          },
          tables: ['staging.call'],
          reviewed: (slug) => reviewed(slug, { author: jonas, reviewer: mira }, GATE_REVIEW),
        },
      ),
  },
  {
    day: SLOW_GATE_DAY + 1,
    at: '08:15',
    play: async ({ jonas }) => {
      const id = await incident(jonas, GATE_CHECK);
      await jonas.send('POST', `incidents/${id}/close`, {
        learned:
          'Gate clocks go wrong and are corrected a day later. A departure before the arrival is unknown until then; a worked example of staging.call holds that.',
      });
    },
  },
  {
    day: STUCK_UNTIL - 1,
    at: '11:10',
    play: async ({ mira }) => {
      const slug = await workspaceOf(mira, BEGUN_WORKSPACE);
      await runIn(mira, slug, ['mart.vessel_dues']);
      await write(mira, slug, {
        'core/dim_berth.sql': (text) =>
          text
            .replace('  terminal_name text', '  quay_name     text')
            .replace('t.terminal_name,', 't.terminal_name as quay_name,'),
      });
    },
  },
  {
    day: STUCK_UNTIL,
    at: '07:30',
    play: async ({ jonas, mira }) => {
      const id = await incident(jonas, {
        kind: 'source',
        subject: 'landing.dues_invoice',
        title: 'No new invoices from the dues office',
        severity: 'high',
      });
      await mira.send('POST', `incidents/${id}/take`);
      await mira.send('POST', `incidents/${id}/remarks`, {
        text: 'Asked the dues office: their nightly export stopped when its disk filled up. They start it again this afternoon.',
      });
    },
  },
  {
    day: STUCK_UNTIL,
    at: '09:10',
    play: async ({ jonas }) => {
      const slug = await proposed(jonas, {
        workspace: 'Largest lots',
        message: 'The largest lot of each kind of goods',
        files: {
          'mart/cargo_by_goods.sql': (text) =>
            text.replace(
              '       sum(l.tonnes) as tonnes\n',
              '       sum(l.tonnes) as tonnes,\n       max(l.tonnes) as largest_lot\n',
            ),
        },
        tables: ['mart.cargo_by_goods'],
      });
      await askForReview(jonas, slug);
    },
  },
];

/** When a day of the harbour's past is over, on the morning after it: UTC. */
export const MORNING = '04:30';

/** The instant of a time of the morning after a day. */
export const instantOf = (day: number, at: string): string => `${dateOf(day + 1)}T${at}:00.000Z`;

/** The incident about something, opened where there is none. @returns its number */
async function incident(
  who: Caller,
  about: { readonly kind: string; readonly subject: string; readonly [more: string]: string },
): Promise<number> {
  const { incidents } = await who.get<{ incidents: readonly IncidentSeen[] }>('incidents');
  const open = incidents.find(
    (i) => i.state !== 'closed' && i.subjects.some((s) => s.kind === about.kind && s.subject === about.subject),
  );
  return open?.id ?? (await who.send<IncidentSeen>('POST', 'incidents', about)).id;
}

/** Files of a change: whole texts, or what becomes of those that there are. */
type Files = Readonly<Record<string, string | ((text: string) => string)>>;

interface Change {
  readonly workspace: string;
  readonly message: string;
  readonly files: Files;
  /** Tables that are run in the workspace first. */
  readonly tables: readonly string[];
  /** What is said of it before it is released. */
  readonly reviewed?: (slug: string) => Promise<void>;
}

/** A change in a workspace: written, run, committed. @returns the workspace's slug */
async function proposed(author: Caller, { workspace, message, files, tables }: Change): Promise<string> {
  const slug = await workspaceOf(author, workspace);
  await write(author, slug, files);
  await runIn(author, slug, tables);
  await author.send('POST', `workspaces/${slug}/commits`, { message }).catch((error: unknown) => {
    // Committed before the play was interrupted.
    if (!(error instanceof Refused && error.status === 409)) throw error;
  });
  return slug;
}

/** A change from a workspace to production: written, run, committed, released. Nothing where it was released already. */
async function release(
  { author, releaser }: { readonly author: Caller; readonly releaser: Caller },
  change: Change,
): Promise<void> {
  const { message } = change;
  const releases = await author.get<readonly { readonly message: string }[]>('releases');
  if (releases.some((r) => r.message === message)) return;
  const slug = await proposed(author, change);
  await change.reviewed?.(slug);
  const { state } = await ended(
    releaser,
    await releaser.send<RunSeen>('POST', `workspaces/${slug}/release`, { message }),
  );
  if (state !== 'succeeded') throw new Error(`the release “${message}” ${state}`);
}

interface ReviewSeen {
  readonly diff: string | null;
  readonly asked: object | null;
  readonly remarks: readonly {
    readonly id: number;
    readonly answers: readonly object[];
    readonly resolved: object | null;
  }[];
  readonly verdicts: readonly object[];
}

const reviewOf = (who: Caller, slug: string) => who.get<ReviewSeen>(`workspaces/${slug}/review`);

async function askForReview(author: Caller, slug: string): Promise<void> {
  if (!(await reviewOf(author, slug)).asked) await author.send('POST', `workspaces/${slug}/review/requests`);
}

/** A review: asked for, a remark on a line and its answer, an approval. What has been said is not said again. */
async function reviewed(
  slug: string,
  { author, reviewer }: { readonly author: Caller; readonly reviewer: Caller },
  { path, on, remark, answer, approval }: typeof GATE_REVIEW,
): Promise<void> {
  const at = `workspaces/${slug}/review`;
  await askForReview(author, slug);
  if ((await reviewOf(author, slug)).remarks.length === 0) {
    const { files } = await author.get<{ files: Readonly<Record<string, string>> }>(`workspaces/${slug}/files`);
    const line = files[path]!.split('\n').findIndex((text) => text.includes(on)) + 1;
    await reviewer.send('POST', `${at}/remarks`, { kind: 'line', path, line, text: remark });
  }
  const [asked] = (await reviewOf(author, slug)).remarks;
  if (asked!.answers.length === 0) await author.send('POST', `${at}/remarks/${asked!.id}/answers`, { text: answer });
  if (!asked!.resolved) await reviewer.send('POST', `${at}/remarks/${asked!.id}/resolution`, { resolved: true });
  const { verdicts, diff } = await reviewOf(reviewer, slug);
  if (verdicts.length === 0) await reviewer.send('POST', `${at}/verdicts`, { word: 'approved', text: approval, diff });
}

/** A workspace by its name, opened where there is none. @returns its slug */
async function workspaceOf(who: Caller, name: string): Promise<string> {
  const known = await who.get<readonly { readonly slug: string; readonly name: string }[]>('workspaces');
  const found =
    known.find((w) => w.name === name) ?? (await who.send<{ slug: string }>('POST', 'workspaces', { name }));
  return found.slug;
}

/** Saves drafts of what is not so yet. */
async function write(who: Caller, slug: string, wanted: Files): Promise<void> {
  const { files, drafts } = await who.get<{
    files: Readonly<Record<string, string>>;
    drafts: readonly { readonly path: string; readonly text: string | null; readonly version: number }[];
  }>(`workspaces/${slug}/files`);
  for (const [path, change] of Object.entries(wanted)) {
    const draft = drafts.find((d) => d.path === path);
    const before = draft?.text ?? files[path] ?? '';
    const text = typeof change === 'string' ? change : change(before);
    if (text !== before)
      await who.send('PUT', `workspaces/${slug}/drafts`, { path, text, version: draft?.version ?? 0 });
  }
}

/** Runs tables of a workspace with what they need. */
async function runIn(who: Caller, slug: string, tables: readonly string[]): Promise<void> {
  const asked = { tables, upstream: true, downstream: false };
  await ended(who, await who.send<RunSeen>('POST', `workspaces/${slug}/runs`, asked));
}

/** Waits for a run to end. @returns how it ended */
export async function ended(who: Caller, { id }: Pick<RunSeen, 'id'>): Promise<RunSeen> {
  for (;;) {
    const run = await who.get<RunSeen>(`runs/${id}`);
    if (!['queued', 'running'].includes(run.state)) return run;
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
}

const OPEN_DUES = `-- What is still to be paid, by the month of the invoice.
create table mart.open_dues (
  invoiced_month date primary key,
  invoices       bigint not null,
  open_total     numeric(14,2) not null check (open_total >= 0)
);
comment on table mart.open_dues is 'Dues that were charged and not paid yet, by month.';

select date_trunc('month', invoiced_on)::date as invoiced_month,
       count(*) as invoices,
       sum(amount - paid) as open_total
from core.fact_dues
where paid < amount
group by 1;
`;

const GATE_REVIEW = {
  path: 'staging/call.sql',
  /** What is on the line. */
  on: 'case when c.departed_at',
  remark: 'Does the stay come back by itself once the gate clock is corrected?',
  answer: 'Yes: the register sends the call again with the right time, and staging reads it as it is then.',
  approval: 'Read with the example; the stays of yesterday are what the harbour office says.',
};

const GATE_EXAMPLE = {
  input: `call_no,hull_no,berth_code,from_port,to_port,status,announced_at,arrived_at,departed_at,tonnage,changed_at
C-2001,KR-0001,BS-1,SALT,MERE,departed,2026-02-14 08:00:00+00,2026-02-15 22:10:00+00,2026-02-15 20:10:00+00,1200.00,2026-02-15 23:59:00+00
C-2002,KR-0002,NQ-1,MERE,SALT,departed,2026-02-14 10:00:00+00,2026-02-15 05:00:00+00,2026-02-15 21:30:00+00,80.00,2026-02-15 23:59:00+00
`,
  result: `call_no,arrived_at,departed_at
C-2001,2026-02-15 22:10:00+00,
C-2002,2026-02-15 05:00:00+00,2026-02-15 21:30:00+00
`,
};
