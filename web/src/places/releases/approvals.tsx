import { useKeptReason } from '../../data/use-draft-reason';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { Review, ReviewNeed, ReviewVerdict, ReviewWord } from '@ouvrage/api/review';
import type { Verdict } from '@ouvrage/core/check';
import { useForm } from 'react-hook-form';
import { usePerson, whyNot } from '../../data/person';
import { useProject } from '../../data/project';
import { useAskReviewMutation, useJudgeMutation, useWithdrawMutation } from '../../data/reviews';
import { isFilled } from '../../shared/filled';
import { moment, when } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';

/** What the rules of the project ask before a release, in words, with whether it is so. */
export function reviewConditions({ needs, verdicts }: Review): { readonly verdict: Verdict; readonly text: string }[] {
  const declined = verdicts.filter((v) => v.word === 'declined' && v.stale === null);
  return [
    ...needs.map(needCondition),
    ...declined.map((v) => ({ verdict: 'broken' as const, text: `${v.person} declines it` })),
  ];
}

function needCondition(need: ReviewNeed): { readonly verdict: Verdict; readonly text: string } {
  if (need.kind === 'owner')
    return need.isMet
      ? { verdict: 'holds', text: `Approved for ${need.owner}` }
      : {
          verdict: 'not run',
          text: need.people.length
            ? `${need.people.join(' or ')} has to approve for ${need.owner}`
            : `Nobody who did not write it can approve for ${need.owner}`,
        };
  const { wanted, found } = need;
  if (found >= wanted)
    return { verdict: 'holds', text: wanted === 1 ? 'Approved by another person' : `Approved by ${found} others` };
  return {
    verdict: 'not run',
    text: wanted === 1 ? 'Another person has to approve' : `${found} of ${wanted} approvals`,
  };
}

const SAID: Readonly<Record<ReviewWord, Verdict>> = { approved: 'holds', declined: 'broken' };

/** Who wrote a change, what others said of it, and what the person may say. */
export function Approvals({ review }: { readonly review: Review }) {
  const person = usePerson();
  return (
    <section aria-label="Approval" className="flex flex-col gap-2">
      <SectionTitle>Approval</SectionTitle>
      {review.authors.length > 0 && <p className="text-small text-soft">Written by {review.authors.join(', ')}.</p>}
      {review.verdicts.length > 0 && (
        <ul>
          {review.verdicts.map((v) => (
            <Said key={v.person} verdict={v} />
          ))}
        </ul>
      )}
      <Asking review={review} />
      {review.mayNot === null && review.diff !== null && (
        <Judging
          key={review.diff}
          diff={review.diff}
          hasSaid={review.verdicts.some((v) => v.person === person.displayName)}
        />
      )}
    </section>
  );
}

function Said({ verdict: { person, word, text, at, stale } }: { readonly verdict: ReviewVerdict }) {
  return (
    <li className="flex gap-3 border-b border-line py-1.5">
      <span className="mt-1 shrink-0">
        <VerdictMark verdict={stale === null ? SAID[word] : 'not run'} />
      </span>
      <span className="min-w-0 break-words">
        <span className={stale === null ? 'font-medium' : 'text-soft'}>
          {person} {stale === null ? (word === 'approved' ? 'approves' : 'declines') : `had ${word} it`}
        </span>{' '}
        <time dateTime={at} title={moment(at)} className="text-small text-soft">
          {when(at)}
        </time>
        <span className="block">{text}</span>
        {stale !== null && <span className="block text-small text-advisory-text">Counts no more: {stale}.</span>}
      </span>
    </li>
  );
}

function Asking({ review: { asked, diff, mayNot, authors } }: { readonly review: Review }) {
  const { slug } = useProject();
  const person = usePerson();
  const tell = useTell();
  const [ask, { error, isLoading }] = useAskReviewMutation();
  const kept = useKeptReason();
  const isAuthor = authors.includes(person.displayName);
  if (asked)
    return (
      <p className="text-small text-soft">
        {asked.person} asked for it <span title={moment(asked.at)}>{when(asked.at)}</span>.
        {mayNot !== null && !isAuthor && ` ${mayNot}`}
      </p>
    );
  const reason =
    whyNot(person, 'editor', 'ask for approval') ??
    kept ??
    (diff === null ? 'There is nothing to approve yet.' : undefined);
  return (
    <>
      {mayNot !== null && <p className="text-small text-soft">{mayNot}</p>}
      {error && <ProblemNote problem={error as ProblemBody} />}
      <Button
        disabled={isLoading}
        {...(reason ? { reason } : {})}
        onClick={() =>
          void ask(slug)
            .unwrap()
            .then(() => tell.say('Asked for approval', 'It is on Today of everybody who may approve it.'))
            .catch(() => undefined)
        }
      >
        Ask for approval
      </Button>
    </>
  );
}

const area = 'w-full rounded-edge border border-rule bg-raised px-2 py-1.5 text-ink';

/** A word on the diff that is shown. */
function Judging({ diff, hasSaid }: { readonly diff: string; readonly hasSaid: boolean }) {
  const { slug } = useProject();
  const person = usePerson();
  const { register, handleSubmit, reset, formState } = useForm({ defaultValues: { text: '' } });
  const [judge, { error, isLoading }] = useJudgeMutation();
  const [withdraw] = useWithdrawMutation();
  const say = (word: ReviewWord) =>
    handleSubmit(({ text }) =>
      judge({ slug, word, text: text.trim(), diff })
        .unwrap()
        .then(() => reset())
        .catch(() => undefined),
    );
  return (
    <form
      aria-label={`What ${person.displayName} says`}
      className="flex flex-col gap-2"
      onSubmit={(e) => e.preventDefault()}
    >
      <textarea
        aria-label="What you say"
        rows={2}
        maxLength={10_000}
        placeholder="What you looked at, and what you think of it"
        className={area}
        {...register('text', { validate: isFilled })}
      />
      {error && <ProblemNote problem={error as ProblemBody} />}
      <div className="flex flex-wrap gap-2">
        <Button disabled={isLoading || !formState.isValid} onClick={(e) => void say('approved')(e)}>
          Approve
        </Button>
        <Button disabled={isLoading || !formState.isValid} onClick={(e) => void say('declined')(e)}>
          Decline
        </Button>
        {hasSaid && (
          <Button tone="quiet" onClick={() => void withdraw(slug)}>
            Take back
          </Button>
        )}
      </div>
    </form>
  );
}
