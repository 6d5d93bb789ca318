import {
  proposeUpload,
  referenceProblems,
  uploadTexts,
  type ReferenceProblem,
  type Upload,
  type UploadColumn,
} from '@ouvrage/core/intake';
import { useMemo, useState } from 'react';
import { useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { useDraftReason } from '../../data/use-draft-reason';
import { Sql } from '../../shared/diff';
import { count, plural } from '../../shared/format';
import { useKeepFiles } from '../../shared/proposal';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { inputClass } from '../../shared/ui/input';
import { SectionTitle } from '../../shared/ui/section-title';
import { WrongValues } from '../tables/wrong-values';
import { FileDrop } from './file-drop';

const LAYER = 'reference';

/** A file of values becomes a table of the project: every value that does not fit is told before it is saved. */
export function Reference() {
  const { slug, paths } = useProject();
  const navigate = useNavigate();
  const { keep, keeping } = useKeepFiles();
  const [upload, setUpload] = useState<Upload>();
  const [name, setName] = useState('');
  const columns = upload?.columns ?? [];
  const change = (i: number, changes: Partial<UploadColumn>) =>
    upload && setUpload({ ...upload, columns: columns.map((c, j) => (j === i ? { ...c, ...changes } : c)) });
  const header = columns.map((c) => c.name);
  const problems = useMemo(
    () =>
      upload
        ? referenceProblems(
            upload.columns,
            upload.columns.map((c) => c.name),
            upload.rows,
          )
        : [],
    [upload],
  );
  const texts = upload && columns.length ? uploadTexts(`${LAYER}.${name}`, upload) : undefined;
  const [sqlPath, csvPath] = [`${LAYER}/${name}.sql`, `${LAYER}/${name}.csv`];
  const refused =
    useDraftReason() ??
    (!upload
      ? 'Choose a file.'
      : upload.broken.length || columns.length === 0
        ? 'Fix the lines that cannot be read first.'
        : !/^[a-z_][a-z0-9_]*$/.test(name)
          ? 'A table’s name has lower-case letters, digits and underscores, and begins with a letter.'
          : paths.includes(sqlPath) || paths.includes(csvPath)
            ? `There is a table ${LAYER}.${name}: change its values under Values, or choose another name.`
            : new Set(header).size < header.length
              ? 'Two columns have the same name.'
              : problems.length
                ? 'Some values do not fit: fix them, or choose another type.'
                : undefined);
  const store = async () => {
    if (!texts) return;
    const kept = await keep([
      { path: sqlPath, after: texts.sql },
      { path: csvPath, after: texts.csv },
    ]);
    if (kept) await navigate(address.table(slug, `${LAYER}.${name}`, 'values'));
  };
  return (
    <div className="flex min-w-0 flex-1">
      <section aria-label="Reference table" className="flex min-w-0 flex-1 flex-col gap-4 overflow-auto p-4">
        <h2 className="sheet-title border-b border-line pb-1">Reference table from a file</h2>
        <FileDrop
          onText={(text, file) => {
            setUpload(proposeUpload(text));
            if (file !== undefined) setName(file);
          }}
        />
        {upload && upload.broken.length > 0 && <Broken broken={upload.broken} />}
        {upload && columns.length > 0 && (
          <>
            <p className="text-soft">
              {plural(upload.rows.length, 'row')}, {plural(columns.length, 'column')}. Types are the narrowest that all
              values have.
            </p>
            <DataTable
              isDense
              columns={columnsOf(change)}
              rows={columns.map((c, i) => ({ ...c, i }))}
              keyOf={(c) => c.i}
            />
          </>
        )}
        {upload && problems.length > 0 && <Wrong problems={problems} />}
      </section>
      <section aria-label="The SQL" className="flex w-115 shrink-0 flex-col border-l border-line bg-sheet">
        <div className="flex flex-wrap items-end gap-2 border-b border-line px-3 py-2">
          <label className="flex flex-col text-small">
            table
            <span className="flex items-center gap-1 font-mono">
              {LAYER}.
              <input
                aria-label="Name of the table"
                value={name}
                spellCheck={false}
                onChange={(e) => setName(e.target.value)}
                className={`${inputClass} w-40! font-mono text-small`}
              />
            </span>
          </label>
          <span className="flex-1" />
          <Button tone="act" disabled={keeping} {...(refused ? { reason: refused } : {})} onClick={() => void store()}>
            Save drafts
          </Button>
        </div>
        <div className="min-h-0 flex-1 overflow-auto px-3.5 py-2">
          {texts && (
            <>
              <SectionTitle>{sqlPath}</SectionTitle>
              <Sql text={texts.sql} label="SQL of the definition" />
              <SectionTitle>{csvPath}</SectionTitle>
              <pre className="font-mono text-small">{texts.csv.split('\n').slice(0, 12).join('\n')}</pre>
            </>
          )}
        </div>
      </section>
    </div>
  );
}

type Numbered = UploadColumn & { readonly i: number };

function columnsOf(change: (i: number, changes: Partial<UploadColumn>) => void): DataColumn<Numbered>[] {
  const text = (label: string, c: Numbered, of: { width: string; key: 'name' | 'type' | 'comment' }) => (
    <input
      aria-label={`${label} of ${c.from}`}
      value={c[of.key] ?? ''}
      spellCheck={of.key === 'comment'}
      onChange={(e) => change(c.i, { [of.key]: e.target.value })}
      className={`${inputClass} font-mono text-small ${of.width}`}
    />
  );
  const tick = (label: string, c: Numbered, key: 'notNull' | 'isKey') => (
    <input
      type="checkbox"
      aria-label={`${label}: ${c.from}`}
      checked={c[key]}
      onChange={(e) => change(c.i, { [key]: e.target.checked })}
    />
  );
  return [
    { id: 'in the file', look: 'max-w-28 truncate', cell: ({ from }) => <span title={from}>{from}</span> },
    { id: 'name', cell: (c) => text('Name', c, { width: 'w-28!', key: 'name' }) },
    { id: 'type', cell: (c) => text('Type', c, { width: 'w-28!', key: 'type' }) },
    { id: 'never null', look: 'text-center', cell: (c) => tick('Never null', c, 'notNull') },
    { id: 'key', look: 'text-center', cell: (c) => tick('Key', c, 'isKey') },
    { id: 'what it means', cell: (c) => text('Description', c, { width: 'w-36!', key: 'comment' }) },
  ];
}

/** Lines that are no rows. */
function Broken({ broken }: Pick<Upload, 'broken'>) {
  return (
    <div role="alert" className="border-l-3 border-broken bg-raised px-3 py-2">
      <p className="font-medium text-broken">{plural(broken.length, 'line')} cannot be read as a row</p>
      <ul>
        {broken.slice(0, 20).map(({ line, message }) => (
          <li key={line}>
            <span className="font-mono text-small">line {line}</span> {message}
          </li>
        ))}
      </ul>
      {broken.length > 20 && <p className="text-soft">and {count(broken.length - 20)} more</p>}
    </div>
  );
}

/** All values that do not fit, at once. */
function Wrong({ problems }: { problems: readonly ReferenceProblem[] }) {
  return (
    <section aria-label="What does not fit" className="border-l-3 border-broken bg-raised px-3 py-2">
      <p className="font-medium text-broken">{plural(problems.length, 'value')} wrong</p>
      <WrongValues problems={problems} />
    </section>
  );
}
