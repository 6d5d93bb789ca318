import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useKeepDraftMutation } from '../../data/workspaces';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import { inputClass } from '../../shared/ui/input';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Modal } from '../../shared/ui/modal';
import { Button } from '../../shared/ui/button';

const KINDS = [
  ['view', 'a view'],
  ['table', 'a table, rebuilt at each run'],
  ['check', 'a check: rows that should not exist'],
  ['adhoc', 'an ad hoc query'],
] as const;
type Kind = (typeof KINDS)[number][0];

/** Begins a new file of the project as a draft. */
export function NewDefinition({ open, onClose }: { open: boolean; onClose: () => void }) {
  const { slug, summary, paths } = useProject();
  const layers = summary.layers.map((l) => l.name).filter((l) => !['landing', 'reference'].includes(l));
  const [kind, setKind] = useState<Kind>('view');
  const [layer, setLayer] = useState(layers[0] ?? 'staging');
  const [name, setName] = useState('');
  const [keep, { error, reset }] = useKeepDraftMutation();
  const navigate = useNavigate();
  const { path, text } = draftOf(kind, layer, name);
  const wrong =
    name === ''
      ? undefined
      : !/^[a-z_][a-z0-9_]*$/.test(name)
        ? 'Lower-case letters, digits and underscores; begin with a letter.'
        : paths.includes(path)
          ? `${path} exists already.`
          : undefined;

  const submit = async () => {
    await keep({ slug, path, text, version: 0 }).unwrap();
    setName('');
    reset();
    onClose();
    void navigate(
      kind === 'view' || kind === 'table' ? address.table(slug, `${layer}.${name}`) : address.file(slug, path),
    );
  };
  return (
    <Modal title="New definition" open={open} onClose={onClose}>
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (name !== '' && !wrong) void submit().catch(() => undefined);
        }}
      >
        <label className="flex flex-col gap-1">
          It makes
          <select value={kind} onChange={(e) => setKind(e.target.value as Kind)} className={inputClass}>
            {KINDS.map(([value, label]) => (
              <option key={value} value={value}>
                {label}
              </option>
            ))}
          </select>
        </label>
        {(kind === 'view' || kind === 'table') && (
          <label className="flex flex-col gap-1">
            Layer
            <select value={layer} onChange={(e) => setLayer(e.target.value)} className={inputClass}>
              {layers.map((l) => (
                <option key={l}>{l}</option>
              ))}
            </select>
          </label>
        )}
        <label className="flex flex-col gap-1">
          Name
          <input
            autoFocus
            value={name}
            onChange={(e) => setName(e.target.value)}
            className={`${inputClass} font-mono`}
            aria-invalid={wrong !== undefined}
          />
          <span className={wrong ? 'text-broken' : 'text-soft'}>{wrong ?? `The file is ${path}`}</span>
        </label>
        {error && <ProblemNote problem={error as ProblemBody} />}
        <p className="text-soft">
          Or let a{' '}
          <Link to={address.starter(slug)} onClick={onClose} className="text-plan underline underline-offset-2">
            starter
          </Link>{' '}
          write the first version: clean, join, stack, split, summarise, pivot, targets.
        </p>
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button tone="act" type="submit" disabled={name === '' || wrong !== undefined}>
            Begin
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function draftOf(kind: Kind, layer: string, name: string): { path: string; text: string } {
  const shown = name || 'NAME';
  switch (kind) {
    case 'view':
      return { path: `${layer}/${shown}.sql`, text: 'select 1 as first_column;\n' };
    case 'table':
      return { path: `${layer}/${shown}.sql`, text: `create table ${layer}.${shown} as\nselect 1 as first_column;\n` };
    case 'check':
      return {
        path: `checks/${shown}.sql`,
        text: `create view checks.${shown} as\nselect 1 as row_that_should_not_exist\nwhere false;\n`,
      };
    case 'adhoc':
      return { path: `adhoc/${shown}.sql`, text: 'select 1 as first_column;\n' };
  }
}
