import { useDraftReason } from '../../data/use-draft-reason';
import { useForm } from 'react-hook-form';
import type { Verdict } from '@ouvrage/core/check';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useCommitMutation } from '../../data/workspaces';
import { useRunQuery, useRunsQuery } from '../../data/runs';
import { useReleaseMutation } from '../../data/releases';
import { useChangedExamples } from '../../data/examples';
import { ExampleMark, exampleWords } from '../../shared/example-words';
import { useProject } from '../../data/project';
import { mayAct, usePerson, whyNot } from '../../data/person';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { Comparison } from '@ouvrage/api/release';
import type { Review } from '@ouvrage/api/review';
import { plural, rows } from '../../shared/format';
import { RunChecks } from '../../shared/run-checks';
import { VerdictMark } from '../../shared/marks';
import { useTell } from '../../shared/toasts';
import { isFilled } from '../../shared/filled';
import { SectionTitle } from '../../shared/ui/section-title';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Button } from '../../shared/ui/button';
import { ImpactText, isQuiet } from '../tables/edit-impact';
import { Approvals, reviewConditions } from './approvals';
import { firstAnswers, KeptRows } from './kept-rows';
import { AllRemarks } from './remarks';
import { ReleaseWork } from './release-work';
import { releasesWords } from './way-back';

interface Condition {
  readonly verdict: Verdict;
  readonly text: string;
}

/** What has to be so before a release, in order. */
export function conditionsOf(data: Comparison, review?: Review): Condition[] {
  const { broken, advisory, 'not run': open, holds: holding } = data.verdicts;
  const dropped = data.tables.filter((t) => t.kind === 'deleted').map((t) => t.table);
  const gone = data.tables.flatMap((t) =>
    t.kind === 'deleted' || data.restores ? [] : t.columnsDropped.map((c) => `${t.table}.${c}`),
  );
  return [
    data.errors.length
      ? { verdict: 'broken', text: `${plural(data.errors.length, 'error')}: ${data.errors[0]!.message}` }
      : { verdict: 'holds', text: 'All definitions resolve' },
    data.conflicts.length
      ? { verdict: 'broken', text: `${plural(data.conflicts.length, 'file')} in conflict with production` }
      : { verdict: 'holds', text: 'No conflict with production' },
    data.drafts.length
      ? { verdict: 'broken', text: `${plural(data.drafts.length, 'draft')} not committed` }
      : { verdict: 'holds', text: 'Everything is committed' },
    ...(holding
      ? [
          {
            verdict: 'holds',
            text: `${plural(holding, 'check')} ${holding === 1 ? 'holds' : 'hold'} in the workspace`,
          } as const,
        ]
      : []),
    ...(broken ? [{ verdict: 'broken', text: `${plural(broken, 'check')} broken in the workspace` } as const] : []),
    ...(advisory ? [{ verdict: 'advisory', text: `${advisory} advisory` } as const] : []),
    ...(open
      ? [
          {
            verdict: 'not run',
            text: `${plural(open, 'check')} not run here; the ${data.restores ? 'load after the release' : 'release'} runs them`,
          } as const,
        ]
      : []),
    ...(data.withdraws.length
      ? [
          {
            verdict: 'advisory',
            text: `Withdraws ${releasesWords(data.withdraws)}${data.restores ? ' and restores kept copies' : ''}`,
          } as const,
        ]
      : []),
    ...(data.holdsWithdrawn.length
      ? [
          {
            verdict: 'advisory',
            text: `Brings again what was withdrawn: ${releasesWords(data.holdsWithdrawn)}`,
          } as const,
        ]
      : []),
    ...(data.freed.length
      ? [{ verdict: 'advisory', text: `No longer sensitive, so viewers see: ${data.freed.join(', ')}` } as const]
      : []),
    dropped.length || gone.length
      ? { verdict: 'advisory', text: `Dropped: ${[...dropped, ...gone].join(', ')}` }
      : { verdict: 'holds', text: 'Nothing is dropped' },
    ...(review ? reviewConditions(review) : []),
  ];
}

/** What has to be so, who says what of it; then commit, then release. */
export function ReleasePanel({ data, review }: { data: Comparison; review: Review | undefined }) {
  const nothing = data.files.length === 0;
  return (
    <aside
      aria-label="Release"
      className="flex w-75 shrink-0 flex-col gap-4 overflow-auto border-l border-line bg-paper p-4"
    >
      {nothing ? (
        <p className="text-soft">There is nothing to release: change a definition first.</p>
      ) : (
        <>
          <section>
            <SectionTitle>Before it can be released</SectionTitle>
            <ul className="mt-1">
              {conditionsOf(data, review).map((c) => (
                <li key={c.text} className="flex items-center gap-3 border-b border-line py-1.5">
                  <VerdictMark verdict={c.verdict} /> <span>{c.text}</span>
                </li>
              ))}
            </ul>
          </section>
          {review && <Approvals review={review} />}
          <ChangedExamples />
          {data.checks.length > 0 && <ChangedChecks checks={data.checks} />}
          {!isQuiet(data.impact) && (
            <section aria-label="What the changes mean elsewhere" className="flex flex-col gap-1">
              <SectionTitle>What the changes mean elsewhere</SectionTitle>
              <ImpactText impact={data.impact} causes="The changes cause" />
            </section>
          )}
          <ReleaseWork {...data} />
        </>
      )}
      {review && (!nothing || review.remarks.length > 0) && <AllRemarks remarks={review.remarks} />}
      <span className="flex-1" />
      {data.drafts.length > 0 && <CommitForm data={data} />}
      {!nothing && data.drafts.length === 0 && (
        <ReleaseForm key={data.commits[0]?.id} data={data} missing={review?.missing ?? []} />
      )}
    </aside>
  );
}

/** Worked examples that may come to something else than in production. */
function ChangedExamples() {
  const { slug } = useProject();
  const { data } = useChangedExamples(slug);
  if (!data?.length) return null;
  return (
    <section aria-label="Worked examples" className="flex flex-col gap-1.5">
      <SectionTitle aside={plural(data.length, 'example')}>Worked examples</SectionTitle>
      <ul>
        {data.map((state) => (
          <li key={`${state.table} ${state.name}`} className="flex items-center gap-3 border-b border-line py-1.5">
            <ExampleMark verdict={state.verdict} />
            <span className="min-w-0 flex-1">
              <Link
                className="text-plan underline underline-offset-2"
                to={`${address.table(slug, state.table, 'examples')}?example=${encodeURIComponent(state.name)}`}
              >
                {state.name}
              </Link>
              <span className="block text-small text-soft">
                {state.table}, {exampleWords(state)}
              </span>
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Checks that are new or changed, with what was found of each over the rows that are here. */
function ChangedChecks({ checks }: { checks: Comparison['checks'] }) {
  const { slug } = useProject();
  // A commit runs them: once that run has ended, what it found is read.
  const { data: runs } = useRunsQuery(slug, { refetchOnMountOrArgChange: true });
  const newest = runs?.find((r) => r.kind === 'check');
  useRunQuery(newest?.id ?? 0, { skip: newest === undefined });
  const runnable = checks.filter((c) => c.change !== 'deleted').map((c) => c.check.id);
  return (
    <section aria-label="Changed checks" className="flex flex-col gap-1.5">
      <SectionTitle aside={plural(checks.length, 'check')}>Changed checks</SectionTitle>
      <ul>
        {checks.map(({ change, check }) => (
          <li key={check.id} className="flex items-center gap-3 border-b border-line py-1.5">
            <VerdictMark verdict={change === 'deleted' ? 'not run' : check.verdict} />
            <span className="min-w-0 flex-1">
              {change === 'deleted' ? (
                check.title
              ) : (
                <Link className="text-plan underline underline-offset-2" to={address.check(slug, check.id)}>
                  {check.title}
                </Link>
              )}
              <span className="block text-small text-soft">
                {check.table}, {change}
                {change !== 'deleted' && check.atFault !== null && `, ${rows(check.atFault)} at fault`}
              </span>
            </span>
          </li>
        ))}
      </ul>
      {runnable.length > 0 && <RunChecks checks={runnable}>Run changed checks</RunChecks>}
    </section>
  );
}

const area = 'w-full rounded-edge border border-rule bg-raised px-2 py-1.5 text-ink';

function CommitForm({ data }: { data: Comparison }) {
  const { slug } = useProject();
  const { register, handleSubmit, formState } = useForm({ defaultValues: { message: '' } });
  const [commit, { error, isLoading }] = useCommitMutation();
  const tell = useTell();
  const reason = useDraftReason('commit');
  const submit = ({ message }: { message: string }) =>
    commit({ slug, message: message.trim() })
      .unwrap()
      .then((c) => tell.say('Committed', c.message))
      .catch(() => undefined);
  return (
    <form className="flex flex-col gap-2" onSubmit={(e) => void handleSubmit(submit)(e)}>
      <label className="flex flex-col gap-1">
        <span className="caps">What changed, and why</span>
        <textarea rows={3} maxLength={5000} className={area} {...register('message', { validate: isFilled })} />
      </label>
      {error && <ProblemNote problem={error as ProblemBody} />}
      <Button tone="act" type="submit" disabled={isLoading || !formState.isValid} {...(reason ? { reason } : {})}>
        Commit {plural(data.drafts.length, 'draft')}
      </Button>
    </form>
  );
}

function ReleaseForm({ data, missing }: { data: Comparison; missing: readonly string[] }) {
  const { slug } = useProject();
  const person = usePerson();
  const { register, handleSubmit, formState } = useForm({
    defaultValues: { message: data.commits[0]?.message.split('\n')[0] ?? '', override: '' },
  });
  const [answers, setAnswers] = useState(() => firstAnswers(data));
  const [release, { error, isLoading }] = useReleaseMutation();
  const navigate = useNavigate();
  const mayOverride = mayAct(person, 'administrator');
  const unsettled = data.losses.some((l) => !answers.consents.includes(l.of));
  const unlike = data.restores?.tables.some((t) => t.mark !== 'comes back' && !answers.consents.includes(t.table));
  const blocked = data.errors.length
    ? 'Definitions have errors.'
    : data.conflicts.length
      ? 'Resolve the conflicts first.'
      : unsettled
        ? `Confirm each item that will be ${data.keptDays === 0 ? 'permanently ' : ''}dropped.`
        : unlike
          ? 'Confirm each table that does not come back as it was.'
          : missing.length > 0 && !mayOverride
            ? `The review lacks ${missing.join(', and ')}.`
            : undefined;
  const submit = async ({ message, override }: { message: string; override: string }) => {
    if (reason) return;
    const why = missing.length > 0 ? { override: override.trim() } : {};
    const made = await release({ slug, message: message.trim(), ...answers, ...why });
    if (made.data) await navigate(address.run(slug, made.data.id));
  };
  const reason = whyNot(person, 'releaser', 'release') ?? blocked;
  return (
    <form className="flex flex-col gap-2" onSubmit={(e) => void handleSubmit(submit)(e)}>
      <KeptRows data={data} answers={answers} onAnswer={setAnswers} />
      <label className="flex flex-col gap-1">
        <span className="caps">Release message</span>
        <textarea rows={2} maxLength={5000} className={area} {...register('message', { validate: isFilled })} />
      </label>
      {missing.length > 0 && mayOverride && (
        <label className="flex flex-col gap-1">
          <span className="caps">Why without {missing.join(', and ')}</span>
          <textarea rows={2} maxLength={5000} className={area} {...register('override', { validate: isFilled })} />
          <span className="text-small text-soft">It is kept with the release, and in the log.</span>
        </label>
      )}
      {error && <ProblemNote problem={error as ProblemBody} />}
      <Button tone="act" type="submit" disabled={isLoading || !formState.isValid} {...(reason ? { reason } : {})}>
        Release to production
      </Button>
    </form>
  );
}
