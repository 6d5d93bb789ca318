import type { CheckState, FailingSince } from '@ouvrage/api/quality';
import type { ProblemBody } from '@ouvrage/api/problem';
import { lazy, Suspense } from 'react';
import { Link, useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { useCheckSeriesQuery } from '../../data/quality';
import { count, moment, plural, rows } from '../../shared/format';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';
import { StepWord } from '../../shared/run-words';

const CheckChart = lazy(() => import('./check-chart').then((m) => ({ default: m.CheckChart })));

/** A check over time, and, where it does not hold, since when and what changed before. */
export function CheckOverTime({ check }: { check: CheckState }) {
  const { slug } = useProject();
  const navigate = useNavigate();
  const of = check.environment === 'production' ? 'production' : 'here';
  const { data, error } = useCheckSeriesQuery({ slug, of, id: check.id });
  if (error) return <ProblemNote problem={error as ProblemBody} />;
  if (!data) return <Loading what="Reading verdicts" />;
  return (
    <>
      {data.failing && <Failing failing={data.failing} />}
      {data.points.length > 1 && (
        <section aria-label="Rows at fault over time" className="flex flex-col gap-1.5">
          <SectionTitle aside={`${plural(data.points.length, 'verdict')} in ${of === 'here' ? slug : of}`}>
            Rows at fault over time
          </SectionTitle>
          <Suspense fallback={<Loading what="Drawing the chart" />}>
            <CheckChart series={data} onChoose={(p) => void navigate(address.run(slug, p.run))} />
          </Suspense>
        </section>
      )}
    </>
  );
}

/** Since when a check does not hold, and what changed between the last verdict that held and the first that did not. */
function Failing({ failing }: { failing: FailingSince }) {
  const { slug } = useProject();
  const link = 'text-plan underline underline-offset-2';
  return (
    <section aria-label="Since when" className="flex flex-col gap-1.5">
      <p>
        Failing since {moment(failing.since)}, in {plural(failing.results, 'verdict')}:{' '}
        <Link className={link} to={address.run(slug, failing.run)}>
          run {failing.run}
        </Link>{' '}
        was the first.{' '}
        {failing.held === null
          ? 'It has not held in any run that is kept.'
          : `It last held at ${moment(failing.held)}.`}
      </p>
      {failing.held !== null && (
        <>
          <SectionTitle>What changed before</SectionTitle>
          {failing.releases.length + failing.loads.length + failing.files.length === 0 && (
            <p className="text-soft">Nothing that it reads was released or loaded in between.</p>
          )}
          <ul>
            {failing.releases.map((r) => (
              <li key={`release ${r.id}`} className="border-b border-line py-1">
                <Link className={link} to={address.place(slug, 'releases')}>
                  release {r.id}
                </Link>{' '}
                by {r.person}, {moment(r.at)}: {r.message.split('\n')[0]}{' '}
                <span className="text-soft">({r.tables.join(', ')})</span>
              </li>
            ))}
            {failing.files.map((f) => (
              <li key={`file ${f.file} ${f.at}`} className="flex flex-wrap gap-x-3 border-b border-line py-1">
                <Link className={link} to={address.table(slug, f.table, 'rows')}>
                  {f.table}
                </Link>
                <span>
                  {f.file} came in {moment(f.at)}
                </span>
                <span className="font-mono text-small">{rows(f.rows)}</span>
              </li>
            ))}
            {failing.loads.map((l) => (
              <li key={`load ${l.table}`} className="flex gap-3 border-b border-line py-1">
                <Link className={link} to={address.table(slug, l.table)}>
                  {l.table}
                </Link>
                <StepWord state={l.state} />
                <span className="font-mono text-small">
                  {l.rows === null
                    ? ''
                    : `${rows(l.rows)}${l.rowsBefore === null ? '' : `, ${count(l.rowsBefore)} before`}`}
                </span>
                <Link className={`${link} ml-auto`} to={address.run(slug, l.run)}>
                  run {l.run}
                </Link>
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}
