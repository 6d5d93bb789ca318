import type { ProblemBody } from '@ouvrage/api/problem';
import type { WorkspaceEntry } from '@ouvrage/api/project';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { mayAct, PRODUCTION, usePerson } from '../../data/person';
import { useProject } from '../../data/project';
import { present } from '../../data/time';
import { useDeleteWorkspaceMutation, useWorkspacesQuery } from '../../data/workspaces';
import { moment, plural, shortCommit, when } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { ConfirmDestroy } from '../../shared/ui/confirm-destroy';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Empty } from '../../shared/ui/empty';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';
import { Tag } from '../../shared/ui/tag';
import { ShareWorkspace } from './share-workspace';

/** Without a commit for so long a workspace counts as forgotten. */
const FORGOTTEN_DAYS = 30;

const isForgotten = ({ changedAt }: WorkspaceEntry): boolean =>
  present() - new Date(changedAt).getTime() > FORGOTTEN_DAYS * 86_400_000;

/** What would be lost with a workspace, as the server refuses to delete it. */
interface Lost {
  readonly drafts: readonly string[];
  readonly commits: readonly { readonly id: string; readonly message: string }[];
}

type Act = (workspace: WorkspaceEntry) => void;

/** All workspaces, those that nobody works in first; their owners and administrators delete them. */
export function Workspaces() {
  const { data, error, isLoading, refetch } = useWorkspacesQuery();
  const [leaving, setLeaving] = useState<WorkspaceEntry>();
  const [sharing, setSharing] = useState<WorkspaceEntry>();
  if (isLoading) return <Loading what="Reading workspaces" />;
  if (error || !data) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  if (data.length === 0)
    return (
      <Empty title="No workspaces yet">
        <p>Open one at the top: changes are made there before they are released.</p>
      </Empty>
    );
  const forgotten = data.filter(isForgotten);
  const rows = [...forgotten, ...data.filter((w) => !isForgotten(w))];
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle aside={plural(data.length, 'workspace')}>Workspaces</SectionTitle>
      {forgotten.length > 0 && (
        <p className="text-soft">
          {plural(forgotten.length, 'workspace')} without a commit for {FORGOTTEN_DAYS} days. Each holds tables in the
          warehouse.
        </p>
      )}
      <DataTable columns={columnsOf(setSharing, setLeaving)} rows={rows} keyOf={(w) => w.slug} />
      {sharing && <ShareWorkspace key={sharing.slug} workspace={sharing} onClose={() => setSharing(undefined)} />}
      {leaving && <Deletion key={leaving.slug} workspace={leaving} onClose={() => setLeaving(undefined)} />}
    </section>
  );
}

/** Who edits it beside its owner. */
const sharedWords = ({ sharedWith }: WorkspaceEntry): string =>
  sharedWith === 'all' ? 'everybody who edits' : sharedWith.join(', ') || 'nobody';

const columnsOf = (onShare: Act, onDelete: Act): DataColumn<WorkspaceEntry>[] => [
  {
    id: 'name',
    look: 'font-medium',
    sortBy: (w) => w.name,
    cell: (w) => (
      <span className="flex items-center gap-2">
        <Link className="text-plan underline underline-offset-2" to={address.place(w.slug, 'today')}>
          {w.name}
        </Link>
        {isForgotten(w) && <Tag tone="advisory">forgotten</Tag>}
      </span>
    ),
  },
  { id: 'owner', sortBy: (w) => w.owner, cell: (w) => w.owner },
  { id: 'shared with', sortBy: sharedWords, cell: sharedWords },
  { id: 'drafts', inFigures: true, sortBy: (w) => w.drafts, cell: (w) => w.drafts },
  {
    id: 'last commit',
    sortBy: (w) => w.changedAt,
    cell: (w) => <span title={moment(w.changedAt)}>{when(w.changedAt)}</span>,
  },
  { id: 'schemas', look: 'font-mono text-small', cell: (w) => `${w.prefix}_…` },
  {
    id: 'share or delete',
    isSilent: true,
    cell: (w) => (
      <span className="flex justify-end">
        <OwnerButton workspace={w} verb="Share" onClick={onShare} />
        <OwnerButton workspace={w} verb="Delete" onClick={onDelete} />
      </span>
    ),
  },
];

/** What only its owner and administrators do with a workspace. */
function OwnerButton({
  workspace,
  verb,
  onClick,
}: {
  readonly workspace: WorkspaceEntry;
  readonly verb: 'Share' | 'Delete';
  readonly onClick: Act;
}) {
  const person = usePerson();
  const isOwn = mayAct(person, 'editor') && workspace.owner === person.displayName;
  const reason =
    isOwn || mayAct(person, 'administrator')
      ? {}
      : { reason: `Only ${workspace.owner} or an administrator ${verb.toLowerCase()}s it.` };
  return (
    <Button tone="quiet" aria-label={`${verb} ${workspace.name}`} {...reason} onClick={() => onClick(workspace)}>
      {verb} …
    </Button>
  );
}

/** Asks before a workspace is deleted; where something would be lost with it, once more with what. */
function Deletion({
  workspace: { slug, name },
  onClose,
}: {
  readonly workspace: WorkspaceEntry;
  readonly onClose: () => void;
}) {
  const { slug: here } = useProject();
  const navigate = useNavigate();
  const tell = useTell();
  const [remove, { error }] = useDeleteWorkspaceMutation();
  const problem = error as (ProblemBody & Partial<Lost>) | undefined;
  const lost =
    problem?.code === 'needs-consent' ? { drafts: problem.drafts ?? [], commits: problem.commits ?? [] } : undefined;
  const confirm = async () => {
    const consents = lost ? [...lost.drafts, ...lost.commits.map((c) => c.id)] : [];
    const answer = await remove({ slug, consents });
    if (answer.error) return;
    tell.say(`${name} is deleted`);
    onClose();
    if (here === slug) await navigate(address.place(PRODUCTION, 'settings/workspaces'));
  };
  return (
    <ConfirmDestroy
      open
      title={`Delete ${name}?`}
      action={lost ? 'Delete it with these' : 'Delete'}
      onClose={onClose}
      onConfirm={() => void confirm()}
      stays
      what={
        <div className="flex flex-col gap-2">
          {lost ? (
            <LostList lost={lost} />
          ) : (
            <p>Its tables in the warehouse, its branch and its remarks are gone then. Production stays as it is.</p>
          )}
          {problem && !lost && <ProblemNote problem={problem} />}
        </div>
      }
    />
  );
}

function LostList({ lost: { drafts, commits } }: { readonly lost: Lost }) {
  return (
    <>
      <p>What is not released is lost:</p>
      <ul className="max-h-60 overflow-auto">
        {commits.map((c) => (
          <li key={c.id} className="border-b border-line py-1">
            <span className="font-mono text-small">{shortCommit(c.id)}</span> {c.message}
          </li>
        ))}
        {drafts.map((d) => (
          <li key={d} className="border-b border-line py-1">
            the draft of {d}
          </li>
        ))}
      </ul>
    </>
  );
}
