import { Link, Navigate, useParams } from 'react-router';
import { address } from '../../data/addresses';
import { useRunsQuery, useStartRunMutation } from '../../data/runs';
import { useProject } from '../../data/project';
import { useRunReason } from '../../data/use-draft-reason';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { RunEntry } from '@ouvrage/api/run';
import { ago, between, duration, plural } from '../../shared/format';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';
import { useTell } from '../../shared/toasts';
import { useNavigate } from 'react-router';
import { TakeAway } from './take-away';
import { RunSheet } from './run-sheet';
import { RunsOrJobs } from './runs-or-jobs';
import { isGoing, RunWord } from '../../shared/run-words';

/** Runs of this workspace, and one of them as a timeline. */
export default function Runs() {
  const { slug } = useProject();
  const { run, step } = useParams();
  const { data, error, isLoading, refetch } = useRunsQuery(slug, {
    pollingInterval: 5000,
    skipPollingIfUnfocused: true,
  });
  if (isLoading) return <Loading what="Reading runs" />;
  if (error) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  if (!run && data?.[0]) return <Navigate replace to={address.run(slug, data[0].id)} />;
  return (
    <div className="flex h-full min-h-0">
      <aside aria-label="Runs" className="flex w-67.5 shrink-0 flex-col border-r border-line bg-paper">
        <div className="flex items-center justify-between border-b border-line p-2 pl-3.5">
          <RunsOrJobs shown="runs" />
          <RunAll />
        </div>
        <ul className="min-h-0 flex-1 overflow-auto">
          {data?.map((r) => (
            <RunLine key={r.id} run={r} current={String(r.id) === run} />
          ))}
          {data?.length === 0 && <li className="p-3.5 text-soft">No runs here yet.</li>}
        </ul>
        <div className="border-t border-line px-3.5 py-2">
          <TakeAway tables={[]} name="all tables" />
        </div>
      </aside>
      <section className="min-w-0 flex-1 bg-sheet">
        {run && /^\d+$/.test(run) ? (
          <RunSheet key={run} id={Number(run)} step={step === undefined ? undefined : Number(step)} />
        ) : (
          <Empty title={run ? 'This run does not exist' : 'No runs here yet'}>
            <p>
              A run builds tables in this workspace’s own schemas and checks them. What equals production is read from
              there.
            </p>
          </Empty>
        )}
      </section>
    </div>
  );
}

function RunAll() {
  const { slug } = useProject();
  const reason = useRunReason();
  const [start, { isLoading }] = useStartRunMutation();
  const navigate = useNavigate();
  const tell = useTell();
  if (reason !== undefined) return null;
  const run = () =>
    start({ slug, tables: [], upstream: false, downstream: false })
      .unwrap()
      .then((made) => navigate(address.run(slug, made.id)))
      .catch(tell.problem);
  return (
    <Button disabled={isLoading} onClick={() => void run()}>
      Run all tables
    </Button>
  );
}

const WHAT: Readonly<Record<RunEntry['kind'], string>> = {
  build: 'build',
  intake: 'intake',
  release: 'release',
  check: 'checks of',
};

function RunLine({ run, current }: { run: RunEntry; current: boolean }) {
  const { slug } = useProject();
  const what =
    run.tables.length === 0
      ? 'all tables'
      : run.tables.length === 1
        ? run.tables[0]
        : plural(run.tables.length, 'table');
  return (
    <li className="border-b border-line">
      <Link
        to={address.run(slug, run.id)}
        aria-current={current ? 'page' : undefined}
        className={`block border-l-3 px-3 py-1.5 ${current ? 'border-plan bg-sheet' : 'border-transparent hover:bg-sheet/70'}`}
      >
        <span className="flex justify-between gap-2">
          <span className="truncate font-medium">
            {run.id}. {WHAT[run.kind]} {what}
          </span>
          <RunWord state={run.state} />
        </span>
        <span className="flex justify-between gap-2 text-small text-soft">
          <span className="truncate">
            {run.person}, {ago(run.createdAt)}
          </span>
          <span>{isGoing(run.state) ? '' : duration(between(run.startedAt, run.finishedAt))}</span>
        </span>
      </Link>
    </li>
  );
}
