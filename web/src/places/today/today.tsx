import type { ProblemBody } from '@ouvrage/api/problem';
import type { CheckState } from '@ouvrage/api/quality';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { useTodayQuery } from '../../data/releases';
import { useWatchFindingsQuery } from '../../data/watches';
import { dayWords, plural, rows, when } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { present } from '../../data/time';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Beside } from './beside';
import { FirstSteps } from './first-steps';
import { NeedList, needsOf } from './needs';
import { GivenUp, Notices } from './notices';
import { Past } from './past';
import { Yours, YourTables } from './yours';

/** What needs a person, in order; what is theirs; beside it what was built, how old the sources are, what was released. */
export default function Today() {
  const project = useProject();
  const { slug, name, isProduction } = project;
  const { data: findings = [] } = useWatchFindingsQuery();
  const { data, error, isLoading, refetch } = useTodayQuery(slug, {
    refetchOnMountOrArgChange: true,
    pollingInterval: 20_000,
    skipPollingIfUnfocused: true,
  });
  if (isLoading) return <Loading what="Loading what needs you" />;
  if (error || !data)
    return (
      <div className="p-4">
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      </div>
    );
  const needs = needsOf(data, findings, project);
  const built = data.lastRun?.finishedAt;
  return (
    <div className="h-full overflow-auto bg-sheet">
      <div className="mx-auto grid max-w-310 grid-cols-[minmax(0,1.72fr)_minmax(0,1fr)] gap-x-11 p-5 max-narrow:grid-cols-1">
        <div className="flex flex-col gap-6">
          <div>
            <header className="border-b-2 border-ink pb-2">
              <h1 className="font-cond text-head leading-tight font-semibold">
                {needs.length === 0
                  ? data.firstSteps
                    ? 'Nothing is here yet'
                    : 'All is well'
                  : needs.length === 1
                    ? 'One thing needs you'
                    : `${needs.length} things need you`}
              </h1>
              <p className="text-soft">
                {dayWords(present())}, {isProduction ? 'production' : `workspace ${name}`}
                {built ? ` as of ${when(built)}` : ''}: {plural(data.tables.all, 'table')}
                {data.tables.all === 0
                  ? ''
                  : data.tables.notRun > 0
                    ? `, ${data.tables.notRun} not built yet`
                    : ', all available'}
              </p>
            </header>
            {data.firstSteps && <FirstSteps steps={data.firstSteps} />}
            <NeedList needs={needs} />
            {needs.length === 0 && !data.firstSteps && (
              <p className="pt-3">No incidents are open, no checks are broken, no sources are late, no runs failed.</p>
            )}
          </div>
          <Past />
          <GivenUp />
          <YourTables />
          <Notices />
          <Advisory checks={data.advisory} />
          <Yours data={data} />
        </div>
        <Beside data={data} />
      </div>
    </div>
  );
}

/** Checks that are listed; Quality has them all. */
const SHOWN = 8;

function Advisory({ checks }: { checks: readonly CheckState[] }) {
  const { slug } = useProject();
  if (checks.length === 0) return null;
  return (
    <section aria-label="Failing advisory checks">
      <h2 className="caps border-b border-line pb-1">
        Failing advisory checks <span className="font-mono">{checks.length}</span>
      </h2>
      <ul>
        {checks.slice(0, SHOWN).map((c) => (
          <li key={c.id} className="border-b border-line">
            <Link to={address.check(slug, c.id)} className="flex items-center gap-3 px-1 py-1 hover:bg-wash">
              <VerdictMark verdict={c.verdict} />
              <span className="min-w-0 flex-1 truncate" title={`${c.table}: ${c.title}`}>
                {c.table}: {c.title}
              </span>
              <span className="shrink-0 text-small text-soft">
                {rows(c.atFault)}, {when(c.at)}
              </span>
            </Link>
          </li>
        ))}
      </ul>
      {checks.length > SHOWN && <p className="pt-1 text-soft">and {checks.length - SHOWN} more</p>}
    </section>
  );
}
