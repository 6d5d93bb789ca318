import { useForm } from 'react-hook-form';
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
  ['job', 'a job: tables that are loaded together, and when'],
  ['note', 'a note'],
] as const;
type Kind = (typeof KINDS)[number][0];

interface Fields {
  readonly kind: Kind;
  readonly layer: string;
  readonly name: string;
}

/** Begins a new file of the project as a draft. */
export function NewDefinition({
  open,
  onClose,
  begins = 'view',
}: {
  open: boolean;
  onClose: () => void;
  /** What is chosen at first. */
  begins?: Kind;
}) {
  const { slug, summary, paths } = useProject();
  const layers = summary.layers.map((l) => l.name).filter((l) => !['landing', 'reference'].includes(l));
  const form = useForm<Fields>({
    mode: 'onChange',
    defaultValues: { kind: begins, layer: layers[0] ?? 'staging', name: '' },
  });
  const [keep, { error, reset }] = useKeepDraftMutation();
  const navigate = useNavigate();
  const chosen = form.watch();
  const wrong = form.formState.errors.name?.message;
  const nameRules = {
    required: true,
    pattern: {
      value: /^[a-z_][a-z0-9_]*$/,
      message: 'Lower-case letters, digits and underscores; begin with a letter.',
    },
    validate: (_: string, fields: Fields) =>
      !paths.includes(draftOf(fields).path) || `${draftOf(fields).path} exists already.`,
  };
  const submit = async (fields: Fields) => {
    const { kind, layer, name } = fields;
    const { path, text } = draftOf(fields);
    await keep({ slug, path, text, version: 0 }).unwrap();
    form.reset();
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
        onSubmit={(e) => void form.handleSubmit((fields) => submit(fields).catch(() => undefined))(e)}
      >
        <label className="flex flex-col gap-1">
          It makes
          <select className={inputClass} {...form.register('kind', { deps: 'name' })}>
            {KINDS.map(([value, label]) => (
              <option key={value} value={value}>
                {label}
              </option>
            ))}
          </select>
        </label>
        {['view', 'table', 'job'].includes(chosen.kind) && (
          <label className="flex flex-col gap-1">
            Layer
            <select className={inputClass} {...form.register('layer', { deps: 'name' })}>
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
            className={`${inputClass} font-mono`}
            aria-invalid={Boolean(wrong)}
            {...form.register('name', nameRules)}
          />
          <span className={wrong ? 'text-broken' : 'text-soft'}>{wrong || `The file is ${draftOf(chosen).path}`}</span>
        </label>
        {error && <ProblemNote problem={error as ProblemBody} />}
        <p className="text-soft">
          Or let a{' '}
          <Link to={address.starter(slug)} onClick={onClose} className="text-plan underline underline-offset-2">
            starter
          </Link>{' '}
          write the first version: clean, join, stack, split, summarise, pivot, targets, or a reference table from a
          file.
        </p>
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button tone="act" type="submit" disabled={!form.formState.isValid}>
            Create
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function draftOf({ kind, layer, name }: Fields): { path: string; text: string } {
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
    case 'note':
      return { path: `docs/${shown}.md`, text: `# ${shown.replaceAll('_', ' ')}\n\nWrite [layer.table] for a link.\n` };
    case 'job': {
      const tables = layer === '' ? '' : `tables in schema ${layer}`;
      return {
        path: `jobs/${shown}.sql`,
        text: `create publication ${shown}\n  for ${tables}\n  with (at = '30 4 * * *', time_zone = 'UTC');\n`,
      };
    }
    case 'adhoc':
      return { path: `adhoc/${shown}.sql`, text: 'select 1 as first_column;\n' };
  }
}
