import { RenameButton } from './rename-button';
import { UsesButton } from './uses-button';
import type { Verdict } from '@ouvrage/core/check';
import { useState, type ReactNode } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import type { CarriedOwner } from '@ouvrage/core/lineage';
import type { CheckState } from '@ouvrage/api/quality';
import { ago, rows, shortCommit, count } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { Agreements } from '../../shared/agreements';
import { useTell } from '../../shared/toasts';
import { Tag } from '../../shared/ui/tag';
import { Button } from '../../shared/ui/button';
import { Foldable } from '../../shared/ui/foldable';
import { projectWorker } from '../../worker/client';
import type { ColumnSummary, TableSummary } from '../../worker/protocol';
import { ContractForm } from './contract-form';
import type { FileText } from './use-file-text';

/** The columns that a table has, beside its query: types, roles, checks and where each value comes from. */
export function ContractPanel({ table, file }: { table: TableSummary; file: FileText }) {
  const [form, setForm] = useState(false);
  const view = file.answer?.contract;
  const asForm = form && view !== undefined;
  return (
    <Foldable name="Contract" side="right" width="w-84 max-bench:hidden">
      <div className="flex h-9 shrink-0 items-center justify-between border-b border-line px-3.5">
        <h2 className="caps">{table.hasContract ? 'Contract' : 'Columns'}</h2>
        <span className="flex items-center gap-3">
          <ContractWord table={table} file={file} />
          {view !== undefined && !file.readOnly && (
            <Button tone="quiet" aria-pressed={form} onClick={() => setForm(!form)}>
              {form ? 'Read' : 'Edit'}
            </Button>
          )}
        </span>
      </div>
      <div className="min-h-0 flex-1 overflow-auto">
        {asForm ? <ContractForm path={table.path} file={file} view={view} /> : <Columns table={table} file={file} />}
      </div>
      {table.hasContract && (
        <div className="border-t border-line px-3.5 py-1.5">
          <Agreements kind="contract" subject={table.fullName} />
        </div>
      )}
      <TitleBlock table={table} />
    </Foldable>
  );
}

function Columns({ table, file }: { table: TableSummary; file: FileText }) {
  const { checks } = useProject();
  const tell = useTell();
  const [open, setOpen] = useState<string>();
  if (table.columns === undefined)
    return <p className="p-3.5 text-soft">Columns are shown once the definition has no errors.</p>;
  const own = checks.filter((c) => c.table === table.fullName);
  const describe = async (column: string, text: string) => {
    const edits = [{ kind: 'comment', column, text } as const];
    const made = await projectWorker.ask<'contract'>({ kind: 'contract', path: table.path, text: file.text, edits });
    if ('text' in made) file.setText(made.text);
    else tell.problem({ code: 'contract', status: 422, title: made.problem });
  };
  const mayDescribe = table.kind === 'definition' && table.hasContract && !file.readOnly;
  return (
    <ul>
      {table.columns.map((c) => (
        <ColumnLine
          key={c.name}
          table={table.fullName}
          column={c}
          checks={own.filter((k) => k.columns.includes(c.name))}
          open={open === c.name}
          onDescribe={mayDescribe ? (text) => void describe(c.name, text) : undefined}
          onToggle={() => setOpen(open === c.name ? undefined : c.name)}
        />
      ))}
    </ul>
  );
}

function ContractWord({ table, file }: { table: TableSummary; file: FileText }) {
  const wrong =
    file.answer?.diagnostics.filter((d) => d.code === 'contract-column' && d.severity === 'error').length ?? 0;
  const errors = file.answer?.diagnostics.some((d) => d.severity === 'error');
  if (!table.hasContract) return <span className="text-small text-soft">from the query</span>;
  if (table.kind === 'source') return <span className="text-small text-soft">as declared</span>;
  if (wrong) return <span className="text-small text-broken">differs from the query</span>;
  return errors ? (
    <span className="text-small text-soft">query has errors</span>
  ) : (
    <span className="text-small text-holds-text">matches the query</span>
  );
}

const RANK: readonly Verdict[] = ['holds', 'not run', 'advisory', 'broken'];
const worstOf = (checks: readonly CheckState[]): Verdict | undefined =>
  checks.map((c) => c.verdict).sort((a, b) => RANK.indexOf(b) - RANK.indexOf(a))[0];

function ColumnLine({
  table,
  column,
  checks,
  open,
  onDescribe,
  onToggle,
}: {
  table: string;
  column: ColumnSummary;
  checks: readonly CheckState[];
  open: boolean;
  /** Writes a description at this column; undefined where nobody may, or there is no contract. */
  onDescribe: ((text: string) => void) | undefined;
  onToggle: () => void;
}) {
  const { slug, tables } = useProject();
  const verdict = worstOf(checks);
  const tag = column.isKey ? 'key' : (column.role ?? (column.notNull ? 'not null' : undefined));
  return (
    <li className={`border-b border-line ${open ? 'border-l-3 border-l-plan bg-raised' : ''}`}>
      <button
        type="button"
        aria-expanded={open}
        onClick={onToggle}
        className={`flex w-full items-center gap-3 py-line pr-3.5 text-left hover:bg-raised ${open ? 'pl-2.75' : 'pl-3.5'}`}
      >
        <span className="flex w-3 justify-center">
          {verdict ? <VerdictMark verdict={verdict} size={11} /> : <span aria-hidden className="h-px w-2 bg-rule" />}
        </span>
        <span className="flex-1 truncate font-medium" title={column.name}>
          {column.name}
        </span>
        {column.type && <span className="font-mono text-small text-soft">{column.type}</span>}
        {column.sensitive && <Tag tone="advisory">{column.sensitive.kind}</Tag>}
        {tag && <Tag>{tag}</Tag>}
      </button>
      {open && (
        <div className="flex flex-col gap-1 pr-3.5 pb-2 pl-9.5 text-note">
          <Meaning table={table} column={column} onDescribe={onDescribe} />
          {column.sensitive && (
            <p className="text-advisory-text">
              Sensitive ({column.sensitive.kind})
              {column.sensitive.from === `${table}.${column.name}` ? '' : `, as ${column.sensitive.from} is`}: viewers
              do not see it.
            </p>
          )}
          {checks.length > 0 && (
            <p className="flex flex-wrap gap-1">
              {checks.map((c) => (
                <Link key={c.id} to={address.check(slug, c.id)}>
                  <Tag tone={c.verdict === 'broken' ? 'broken' : c.verdict === 'advisory' ? 'advisory' : 'plain'}>
                    {c.title}
                    {c.atFault && c.atFault !== '0'
                      ? `: ${rows(c.atFault)}${c.verdict === 'advisory' ? ', advisory' : ''}`
                      : ''}
                  </Tag>
                </Link>
              ))}
            </p>
          )}
          <p className="flex gap-3">
            <Link to={address.trace(slug, { table, column: column.name })} className="text-plan underline">
              Trace this column
            </Link>
            <UsesButton kind="column" table={table} column={column.name} />
            <RenameButton what={{ kind: 'column', table, column: column.name }} />
          </p>
          {column.origins.map((origin) => {
            const from = origin.split('.').slice(0, 2).join('.');
            return (
              <p key={origin} className="truncate font-mono text-small text-soft">
                ←{' '}
                {tables.has(from) ? (
                  <Link to={address.table(slug, from)} className="hover:text-plan hover:underline">
                    {origin}
                  </Link>
                ) : (
                  origin
                )}
              </p>
            );
          })}
        </div>
      )}
    </li>
  );
}

/** What a column means: its own description, or the one that comes with its values. */
function Meaning({
  table,
  column,
  onDescribe,
}: {
  table: string;
  column: ColumnSummary;
  onDescribe: ((text: string) => void) | undefined;
}) {
  const { slug } = useProject();
  const { comment, carried } = column;
  if (comment !== undefined) return <p>{comment}</p>;
  if (!carried) return <p className="text-soft">No description.</p>;
  const { table: from, column: name } = carried.from;
  return (
    <p>
      {carried.text}{' '}
      <Link
        to={address.trace(slug, { table, column: column.name })}
        className="text-soft hover:text-plan hover:underline"
      >
        as described at {from}.{name}
      </Link>
      {onDescribe && (
        <button
          type="button"
          onClick={() => onDescribe(carried.text)}
          className="ml-2 min-h-6 font-medium text-plan hover:underline"
        >
          Write it here
        </button>
      )}
    </p>
  );
}

/** The block in the corner of the sheet. */
function TitleBlock({ table }: { table: TableSummary }) {
  const { slug, states, commit, isProduction } = useProject();
  const state = states.get(table.fullName);
  const production = isProduction
    ? 'is production'
    : state?.where === 'production'
      ? 'the same'
      : state?.where === 'here'
        ? 'differs, built here'
        : 'differs, not built here';
  return (
    <dl className="grid shrink-0 grid-cols-6 border-t-2 border-ink bg-sheet">
      <Field label="Grain" span={4}>
        {table.grain ?? 'not declared'}
      </Field>
      <Field label="Load" span={2}>
        {table.policy}
      </Field>
      <Field label="Owner" span={2}>
        {table.owner ?? <CarriedOwners owners={table.carriedOwners ?? []} />}
      </Field>
      <Field label="Last load" span={2}>
        {state?.run ? (
          <Link
            to={address.run(slug, state.run)}
            className="text-plan underline underline-offset-2"
            title={state.loadedAt ?? undefined}
          >
            {ago(state.loadedAt)}
          </Link>
        ) : (
          'never'
        )}
      </Field>
      <Field label="Rows" span={2} mono>
        {count(state?.rows)}
      </Field>
      <Field label="Production" span={4}>
        {production}
      </Field>
      <Field label="Commit" span={2} mono>
        {shortCommit(commit)}
      </Field>
    </dl>
  );
}

/** Of a table that names no owner: those of what its columns come from. */
function CarriedOwners({ owners }: { owners: readonly CarriedOwner[] }) {
  const { slug } = useProject();
  if (owners.length === 0) return '–';
  return owners.map(({ owner, from }, i) => (
    <span key={owner}>
      {i > 0 && ', '}
      <Link
        to={address.table(slug, from)}
        className="underline decoration-line hover:text-plan"
        title={`Carried from ${from}, whose columns it has unchanged`}
      >
        {owner}
      </Link>
    </span>
  ));
}

function Field({ label, span, mono, children }: { label: string; span: 2 | 4; mono?: boolean; children: ReactNode }) {
  return (
    <div className={`min-w-0 border-r border-b border-line px-2 py-1 ${span === 4 ? 'col-span-4' : 'col-span-2'}`}>
      <dt className="caps text-tiny!">{label}</dt>
      <dd className={`truncate text-note ${mono ? 'font-mono text-small' : ''}`}>{children}</dd>
    </div>
  );
}
