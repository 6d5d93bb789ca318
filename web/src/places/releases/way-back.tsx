import type { ProblemBody } from '@ouvrage/api/problem';
import type { ReleaseDetail, ReleaseEntry } from '@ouvrage/api/release';
import { type ReactNode, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { usePerson, whyNot } from '../../data/person';
import { useProject } from '../../data/project';
import { useReleasesQuery, useRestorePlanQuery, useWayBackMutation } from '../../data/releases';
import { Button } from '../../shared/ui/button';
import { Loading } from '../../shared/ui/loading';
import { Modal } from '../../shared/ui/modal';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';
import { ComesBackList } from './comes-back';

/** By whom each release was withdrawn that is; one that withdrew and was withdrawn itself counts for nothing. */
export function withdrawnBy(releases: readonly Pick<ReleaseEntry, 'id' | 'withdraws'>[]): Map<number, number> {
  const found = new Map<number, number>();
  for (const { id, withdraws } of [...releases].sort((a, b) => b.id - a.id))
    if (!found.has(id)) for (const one of withdraws) if (!found.has(one)) found.set(one, id);
  return found;
}

/** `release 4`, `releases 4 and 5`, `releases 4 to 9`, `releases 4, 6 and 7` */
export function releasesWords(ids: readonly number[]): string {
  const [first = 0, last = 0] = [ids[0], ids.at(-1)];
  if (ids.length === 1) return `release ${first}`;
  if (ids.length > 2 && last - first === ids.length - 1) return `releases ${first} to ${last}`;
  return `releases ${ids.slice(0, -1).join(', ')} and ${last}`;
}

/** How a release is undone, or by which it was. */
export function WayBack({ release: { id, withdraws, canGoBack } }: { readonly release: ReleaseDetail }) {
  const { slug } = useProject();
  const person = usePerson();
  const [open, setOpen] = useState(false);
  const { data = [] } = useReleasesQuery();
  const by = withdrawnBy(data).get(id);
  const reason =
    whyNot(person, 'editor', 'go back') ?? (canGoBack ? undefined : 'It is the first: there was nothing before it.');
  return (
    <section aria-label="Way back" className="flex flex-col gap-2">
      <SectionTitle>Way back</SectionTitle>
      {withdraws.length > 0 && <p>It withdrew {releasesWords(withdraws)}.</p>}
      {by !== undefined && (
        <p>
          It was withdrawn by{' '}
          <Link className="text-plan underline underline-offset-2" to={address.release(slug, by)}>
            release {by}
          </Link>
          .
        </p>
      )}
      {by === undefined && (
        <Button {...(reason ? { reason } : {})} onClick={() => setOpen(true)}>
          Go back to before it …
        </Button>
      )}
      {open && <Confirm id={id} releases={data.filter((r) => r.id >= id)} onClose={() => setOpen(false)} />}
    </section>
  );
}

function Confirm({
  id,
  releases,
  onClose,
}: {
  readonly id: number;
  readonly releases: readonly ReleaseEntry[];
  readonly onClose: () => void;
}) {
  const navigate = useNavigate();
  const [goBack, { error, isLoading }] = useWayBackMutation();
  const [restores, setRestores] = useState(false);
  const confirm = async () => {
    const { data } = await goBack({ id, restores });
    if (data) await navigate(address.place(data.slug, 'releases'));
  };
  const them = releases.length === 1 ? 'it' : 'them';
  return (
    <Modal title={`Go back to before release ${id}`} open onClose={onClose}>
      <div className="flex flex-col gap-3">
        <p>
          This opens a workspace with the definitions that production had before{' '}
          {releases.length > 1 ? 'these releases' : 'this release'}. Nothing changes in production until it is reviewed
          and released.
        </p>
        <ul aria-label="Releases that it withdraws" className="max-h-half overflow-auto">
          {releases.map((r) => (
            <li key={r.id} className="flex gap-3 border-b border-line py-1.5">
              <span className="font-mono text-small">{r.id}</span>
              <span className="min-w-0 flex-1 truncate">{r.message}</span>
              <span className="text-small text-soft">{r.person}</span>
            </li>
          ))}
        </ul>
        <fieldset className="flex flex-col gap-2">
          <legend className="caps mb-1">Rows</legend>
          <Choice title="Keep today’s rows" isChosen={!restores} onChoose={() => setRestores(false)}>
            They are moved along. Columns and tables that came with {them} are dropped with consent; tables that were
            dropped are built from their queries, without what they had remembered.
          </Choice>
          <Choice title="Restore the kept copies" isChosen={restores} onChoose={() => setRestores(true)}>
            Tables come back as they were before {them}, with keys and all that they had remembered; then they are
            loaded. What they hold today is kept, so that this can be undone.
          </Choice>
        </fieldset>
        {restores && <ComesBack id={id} />}
        <p className="text-soft">Workspaces that go on from {them} keep those changes.</p>
        {error && <ProblemNote problem={error as ProblemBody} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button tone="act" disabled={isLoading} onClick={() => void confirm()}>
            Open the workspace
          </Button>
        </div>
      </div>
    </Modal>
  );
}

function Choice({
  title,
  isChosen,
  onChoose,
  children,
}: {
  readonly title: string;
  readonly isChosen: boolean;
  readonly onChoose: () => void;
  readonly children: ReactNode;
}) {
  return (
    <label className="flex items-baseline gap-2">
      <input type="radio" name="rows" checked={isChosen} onChange={onChoose} />
      <span>
        <span className="font-medium">{title}</span>
        <span className="block text-soft">{children}</span>
      </span>
    </label>
  );
}

/** What would come back, before anybody opens a workspace for it. */
function ComesBack({ id }: { readonly id: number }) {
  const { currentData, error, refetch } = useRestorePlanQuery(id);
  if (error) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  if (!currentData) return <Loading what="Looking for kept copies" />;
  return (
    <div className="max-h-half overflow-auto">
      <ComesBackList tables={currentData.tables} />
    </div>
  );
}
