import type { ProblemBody } from '@ouvrage/api/problem';
import type { Sharing, WorkspaceEntry } from '@ouvrage/api/project';
import { useState } from 'react';
import { useSharingQuery, useShareWorkspaceMutation } from '../../data/workspaces';
import { Button } from '../../shared/ui/button';
import { Loading } from '../../shared/ui/loading';
import { Modal } from '../../shared/ui/modal';
import { ProblemNote } from '../../shared/ui/problem-note';
import { useTell } from '../../shared/toasts';

/** Whom a workspace is shared with, to be changed. */
export function ShareWorkspace({
  workspace: { slug, name, owner },
  onClose,
}: {
  readonly workspace: WorkspaceEntry;
  readonly onClose: () => void;
}) {
  const { data, error, refetch } = useSharingQuery(slug);
  return (
    <Modal title={`Share ${name}`} open onClose={onClose}>
      {error ? (
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      ) : data ? (
        <Form slug={slug} name={name} owner={owner} sharing={data} onClose={onClose} />
      ) : (
        <Loading what="Reading who edits" />
      )}
    </Modal>
  );
}

function Form({
  slug,
  name,
  owner,
  sharing,
  onClose,
}: {
  readonly slug: string;
  readonly name: string;
  readonly owner: string;
  readonly sharing: Sharing;
  readonly onClose: () => void;
}) {
  const tell = useTell();
  const [all, setAll] = useState(sharing.all);
  const [chosen, setChosen] = useState(sharing.people.filter((p) => p.isIn).map((p) => p.name));
  const [share, { error, isLoading }] = useShareWorkspaceMutation();
  const toggle = (person: string) =>
    setChosen((names) => (names.includes(person) ? names.filter((n) => n !== person) : [...names, person]));
  const save = async () => {
    const answer = await share({ slug, all, names: chosen });
    if (answer.error) return;
    tell.say(`Who edits ${name} is saved`);
    onClose();
  };
  return (
    <div className="flex flex-col gap-3">
      <p className="text-soft">
        {owner} and administrators always edit it: its files, its runs, pushes to its branch. Everybody reads it, and
        can review it.
      </p>
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={all} onChange={(e) => setAll(e.target.checked)} /> Everybody who edits
      </label>
      {!all && (
        <fieldset className="flex max-h-half flex-col gap-1 overflow-auto">
          <legend className="caps pb-1">Only these</legend>
          {sharing.people.length === 0 && <p className="text-soft">Nobody else edits this project yet.</p>}
          {sharing.people.map((p) => (
            <label key={p.name} className="flex items-center gap-2">
              <input type="checkbox" checked={chosen.includes(p.name)} onChange={() => toggle(p.name)} />
              {p.displayName} <span className="text-small text-soft">{p.name}</span>
            </label>
          ))}
        </fieldset>
      )}
      {error && <ProblemNote problem={error as ProblemBody} />}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button tone="act" disabled={isLoading} onClick={() => void save()}>
          Save
        </Button>
      </div>
    </div>
  );
}
