import { useState } from 'react';
import { Link } from 'react-router';
import { address } from '../data/addresses';
import { usePerson, whyNot } from '../data/person';
import { useProject } from '../data/project';
import { useRunQuery, useStartChecksMutation } from '../data/runs';
import { useTell } from './toasts';
import { Button } from './ui/button';
import { isGoing, RunWord } from './run-words';

/** Runs checks over the tables as they are, and follows the run. @param checks ids; @param tables all of whose checks run; none of both for all */
export function RunChecks({
  checks = [],
  tables = [],
  environment,
  children,
}: {
  checks?: readonly string[];
  tables?: readonly string[];
  /** Where they run; here, where it is not said. */
  environment?: string;
  children: string;
}) {
  const { slug } = useProject();
  const person = usePerson();
  const [start, { isLoading }] = useStartChecksMutation();
  const [started, setStarted] = useState<number>();
  const { data: run } = useRunQuery(started ?? 0, { skip: started === undefined });
  const tell = useTell();
  const isRunning = isLoading || (started !== undefined && (run === undefined || isGoing(run.state)));
  const reason = whyNot(person, 'editor', 'run checks');
  const begin = () =>
    start({ slug: environment ?? slug, checks, tables })
      .unwrap()
      .then((made) => setStarted(made.id))
      .catch(tell.problem);
  return (
    <span className="flex items-center gap-2">
      <span aria-live="polite">
        {started !== undefined && (
          <Link className="text-small text-plan underline underline-offset-2" to={address.run(slug, started)}>
            run {started} {run && <RunWord state={run.state} />}
          </Link>
        )}
      </span>
      <Button disabled={isRunning} {...(reason ? { reason } : {})} onClick={() => void begin()}>
        {children}
      </Button>
    </span>
  );
}
