import type { JobEntry } from '@ouvrage/api/job';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { Verdict } from '@ouvrage/core/check';
import { useState } from 'react';
import { Link, Navigate, useParams } from 'react-router';
import { address } from '../../data/addresses';
import { useJobsQuery } from '../../data/jobs';
import { useProject } from '../../data/project';
import { useDraftReason } from '../../data/use-draft-reason';
import { VerdictMark } from '../../shared/marks';
import { Button } from '../../shared/ui/button';
import { Empty } from '../../shared/ui/empty';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { NewDefinition } from '../tables/new-definition';
import { JobSheet } from './job-sheet';
import { startWords } from './job-words';
import { RunsOrJobs } from './runs-or-jobs';

/** The jobs of production, and one of them; files of jobs that are not released yet are listed below. */
export default function Jobs() {
  const { slug, paths } = useProject();
  const { job: chosen } = useParams();
  const [adding, setAdding] = useState(false);
  const reason = useDraftReason();
  const { data, error, isLoading, refetch } = useJobsQuery(undefined, {
    refetchOnMountOrArgChange: true,
    pollingInterval: 5000,
    skipPollingIfUnfocused: true,
  });
  if (isLoading) return <Loading what="Reading jobs" />;
  if (error || !data)
    return (
      <div className="p-4">
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      </div>
    );
  if (!chosen && data[0]) return <Navigate replace to={address.jobs(slug, data[0].name)} />;
  const job = data.find((j) => j.name === chosen);
  const released = new Set(data.map((j) => j.path));
  const drafts = paths.filter((p) => /^jobs\/.+\.sql$/.test(p) && !released.has(p));
  return (
    <div className="flex h-full min-h-0">
      <aside aria-label="Jobs" className="flex w-67.5 shrink-0 flex-col border-r border-line bg-paper">
        <div className="flex items-center justify-between border-b border-line p-2 pl-3.5">
          <RunsOrJobs shown="jobs" />
          {reason === undefined && <Button onClick={() => setAdding(true)}>New job</Button>}
        </div>
        <ul className="min-h-0 flex-1 overflow-auto">
          {data.map((j) => (
            <JobLine key={j.name} job={j} isCurrent={j === job} />
          ))}
          {drafts.length > 0 && <li className="caps px-3.5 pt-4 pb-1">Not released yet</li>}
          {drafts.map((path) => (
            <li key={path} className="border-b border-line">
              <Link to={address.file(slug, path)} className="block px-3.5 py-1.5 hover:bg-sheet/70">
                {path.replace(/^jobs\/(.+)\.sql$/, '$1')}
              </Link>
            </li>
          ))}
        </ul>
      </aside>
      {job ? (
        <JobSheet key={job.name} job={job} />
      ) : (
        <section className="min-w-0 flex-1 bg-sheet">
          <Empty title={chosen ? 'Production has no such job' : 'No jobs yet'}>
            <p>
              A job is a file that names tables and says when they are loaded: by the clock, after another job, or when
              a file has been delivered. It starts once it is released.
            </p>
          </Empty>
        </section>
      )}
      <NewDefinition open={adding} onClose={() => setAdding(false)} begins="job" />
    </div>
  );
}

function JobLine({ job, isCurrent }: { readonly job: JobEntry; readonly isCurrent: boolean }) {
  const { slug } = useProject();
  const [verdict, label] = stateOf(job);
  return (
    <li className="border-b border-line">
      <Link
        to={address.jobs(slug, job.name)}
        aria-current={isCurrent ? 'page' : undefined}
        className={`flex items-center gap-3 border-l-3 px-3 py-2 ${isCurrent ? 'border-plan bg-sheet' : 'border-transparent hover:bg-sheet/70'}`}
      >
        <VerdictMark verdict={verdict} label={label} />
        <span className="min-w-0">
          <span className="block truncate font-medium">{job.name}</span>
          <span className="block text-small text-soft">
            {job.paused ? `paused by ${job.paused.by}` : startWords(job)}
          </span>
        </span>
      </Link>
    </li>
  );
}

/** How a job's last start went. */
function stateOf({ starts, error }: JobEntry): readonly [Verdict, string] {
  if (error !== null) return ['broken', 'has an error'];
  const last = starts.find((s) => s.state !== 'skipped');
  if (last === undefined) return ['not run', 'has not run yet'];
  if (last.state === 'waiting' || last.state === 'started') return ['not run', 'is running'];
  if (last.state === 'refused' || (last.run !== null && last.run.state !== 'succeeded')) return ['broken', 'failed'];
  return ['holds', 'ended well'];
}
