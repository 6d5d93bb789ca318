import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { useNavigate } from 'react-router';
import type { BegunExample } from '@ouvrage/api/example';
import type { ProblemBody } from '@ouvrage/api/problem';
import { address } from '../../../data/addresses';
import { useBeginExampleMutation } from '../../../data/examples';
import { useDraftReason } from '../../../data/use-draft-reason';
import { useProject } from '../../../data/project';
import { plural } from '../../../shared/format';
import { useKeepFiles } from '../../../shared/proposal';
import { Button } from '../../../shared/ui/button';
import { inputClass } from '../../../shared/ui/input';
import { Modal } from '../../../shared/ui/modal';
import { ProblemNote } from '../../../shared/ui/problem-note';

type Rows = readonly (readonly (string | null)[])[];

/** Why examples cannot be written here; undefined where they can. */
export function useWhyNoExamples(): string | undefined {
  return useDraftReason('write examples');
}

/** Rows that an example is begun with at most. */
const MOST_ROWS = 20;

/** An example from chosen rows of a preview, or from the first one: how it is offered, and its dialog once it is asked for. */
export function useExampleFromRows(
  table: string,
  { columns, rows, chosen }: { columns: readonly string[]; rows: Rows; chosen: ReadonlySet<number> },
) {
  const [open, setOpen] = useState(false);
  const reason = useWhyNoExamples();
  const all = [...chosen].sort((a, b) => a - b).flatMap((i) => (rows[i] ? [rows[i]] : []));
  const taken = all.length ? all.slice(0, MOST_ROWS) : rows.slice(0, 1);
  const dialog = open && (
    <BeginExample table={table} columns={columns} rows={taken} onClose={() => setOpen(false)}>
      {all.length
        ? `From ${plural(all.length, 'chosen row')}${all.length > MOST_ROWS ? `; the first ${MOST_ROWS} are used` : ''}.`
        : 'From the first row. To choose others, hold Ctrl and click them in the preview, or press the space bar.'}
    </BeginExample>
  );
  const words = all.length ? `Worked example, ${plural(all.length, 'chosen row')}` : 'Worked example, first row';
  return {
    offer: reason === undefined && rows.length > 0 ? { words, onSelect: () => setOpen(true) } : undefined,
    dialog,
  };
}

/** Asks for a name, shows what was found, and saves the example’s files as drafts. */
export function BeginExample({
  table,
  columns,
  rows,
  onClose,
  children,
}: {
  table: string;
  columns: readonly string[];
  rows: Rows;
  onClose: () => void;
  /** What it begins from. */
  children: string;
}) {
  const { slug } = useProject();
  const navigate = useNavigate();
  const [begin, { error, isLoading }] = useBeginExampleMutation();
  const { keep, keeping } = useKeepFiles();
  const [begun, setBegun] = useState<BegunExample>();
  const form = useForm({ mode: 'onChange', defaultValues: { name: '' } });
  const ask = ({ name }: { name: string }) =>
    begin({ slug, table, name: name.trim(), columns, rows })
      .unwrap()
      .then(setBegun, () => undefined);
  const save = async () => {
    const saved = await keep(begun!.files.map((f) => ({ path: f.path, after: f.text })));
    if (!saved) return;
    onClose();
    void navigate(
      `${address.table(slug, table, 'examples')}?example=${encodeURIComponent(form.getValues('name').trim())}`,
    );
  };
  return (
    <Modal title={`New example of ${table}`} open onClose={onClose}>
      {begun ? (
        <div className="flex flex-col gap-3">
          <ul aria-label="Files of the example" className="flex flex-col">
            {begun.files.map((f) => (
              <li key={f.path} className="flex justify-between gap-3 border-b border-line py-1">
                <span className="min-w-0 truncate font-mono text-small" title={f.path}>
                  {f.path.slice(f.path.lastIndexOf('/') + 1)}
                </span>
                <span className="shrink-0 text-soft">{plural(f.text.split('\n').length - 2, 'row')}</span>
              </li>
            ))}
          </ul>
          {begun.notes.map((note) => (
            <p key={note} className="border-l-3 border-advisory bg-raised px-3 py-1.5">
              {note}
            </p>
          ))}
          <p className="text-soft">
            These rows become files of the project: once committed they stay in its history, and whoever has the project
            can read them.
          </p>
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>Cancel</Button>
            <Button tone="act" disabled={keeping} onClick={() => void save()}>
              Save as drafts
            </Button>
          </div>
        </div>
      ) : (
        <form className="flex flex-col gap-3" onSubmit={(e) => void form.handleSubmit(ask)(e)}>
          <p className="text-soft">{children}</p>
          <label className="flex flex-col gap-1">
            What the example shows
            <input
              autoFocus
              placeholder="arrived twice"
              className={inputClass}
              {...form.register('name', {
                required: true,
                maxLength: 80,
                pattern: /^\s*[\w-][\w -]*\s*$/,
              })}
            />
            <span className={form.formState.errors.name ? 'text-broken' : 'text-soft'}>
              Letters, digits, spaces, hyphens and underscores; it names a folder.
            </span>
          </label>
          {error && <ProblemNote problem={error as ProblemBody} />}
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>Cancel</Button>
            <Button tone="act" type="submit" disabled={!form.formState.isValid || isLoading}>
              {isLoading ? 'Looking for input rows …' : 'Next'}
            </Button>
          </div>
        </form>
      )}
    </Modal>
  );
}
